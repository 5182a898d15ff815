//! A reader over a TOML document that collects mistakes with their places instead of stopping at the first.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::{Mutex, PoisonError};

use indexmap::IndexMap;
use toml_edit::{Document, Item, Table, TableLike, Value};

use super::{FILE, Mistake, Place, RuleText, Secret};
use crate::suggest::did_you_mean;

/// Is it a name that GraphQL allows and does not reserve?
pub fn is_graphql_name(name: &str) -> bool {
    let mut bytes = name.bytes();
    bytes.next().is_some_and(|first| first.is_ascii_alphabetic() || first == b'_')
        && bytes.all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
        && !name.starts_with("__")
}

/// One table of the file, with what it takes to report a place in it.
#[derive(Clone)]
pub(super) struct Section {
    entries: IndexMap<String, (Item, Place)>,
    /// What the section is called in messages, such as `limits`.
    label: String,
    pub(super) place: Place,
}

impl Section {
    pub(super) fn has(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    /// Its keys, in the order of the file.
    pub(super) fn keys(&self) -> impl Iterator<Item = &str> {
        self.entries.keys().map(String::as_str)
    }

    pub(super) fn is_text(&self, key: &str) -> bool {
        self.get(key).is_some_and(|(item, _)| item.is_str())
    }

    pub(super) fn get(&self, key: &str) -> Option<(&Item, Place)> {
        self.entries.get(key).map(|(item, place)| (item, *place))
    }
}

pub(super) struct Reader<'a> {
    /// The files' tables as one.
    root: Table,
    files: Files,
    environment: &'a dyn Fn(&str) -> Option<String>,
    mistakes: Vec<Mistake>,
    /// Secrets that are written in the file itself.
    pub(super) exposed: Vec<Mistake>,
}

/// The texts of the files behind each other, so that every place in them has a number of its own.
#[derive(Default)]
struct Files {
    text: String,
    /// Where each begins, and its name, if it is not the project file itself.
    starts: Vec<(usize, Option<&'static str>)>,
    /// Where each line begins.
    lines: Vec<usize>,
}

impl Files {
    /// Adds a file; gives where it begins.
    fn add(&mut self, name: &str, text: &str) -> usize {
        let start = self.text.len();
        self.starts.push((start, (name != FILE).then(|| file_name(name))));
        self.text.push_str(text);
        self.text.push('\n');
        let ends = self.text[start..].match_indices('\n').map(|(at, _)| start + at + 1);
        self.lines.extend(std::iter::once(start).chain(ends.filter(|at| *at < self.text.len())));
        start
    }

    /// The place where a span of the texts begins.
    fn place(&self, span: Option<Range<usize>>) -> Place {
        let Some(span) = span.filter(|span| span.start <= self.text.len()) else { return Place::default() };
        let at = self.starts.partition_point(|(start, _)| *start <= span.start).saturating_sub(1);
        let Some((start, file)) = self.starts.get(at) else { return Place::default() };
        let first = self.lines.partition_point(|line| line < start);
        let line = self.lines.partition_point(|line| *line <= span.start).saturating_sub(1);
        let before = self.lines.get(line).and_then(|begins| self.text.get(*begins..span.start));
        let Some(before) = before else { return Place::default() };
        Place { file: *file, line: line - first + 1, column: before.chars().count() + 1 }
    }
}

/// The name of an included file, kept for good: there are few, and a place with one is copied about.
fn file_name(name: &str) -> &'static str {
    static KNOWN: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = known.get(name) {
        return known;
    }
    let name: &'static str = Box::leak(name.to_owned().into_boxed_str());
    known.insert(name);
    name
}

impl<'a> Reader<'a> {
    pub(super) fn new(
        texts: &[(String, String)],
        environment: &'a dyn Fn(&str) -> Option<String>,
    ) -> Result<Self, Vec<Mistake>> {
        let (mut root, mut files, mut mistakes) = (Table::new(), Files::default(), Vec::new());
        for (name, text) in texts {
            let start = files.add(name, text);
            // Blanks before it give what is in it the places that it has among all.
            let padded = format!("{}{text}", " ".repeat(start));
            match Document::parse(padded) {
                Ok(document) => merge(&mut root, document.as_table(), &files, &mut mistakes),
                Err(error) => {
                    let place = files.place(error.span());
                    // Without what is behind the key: that may be a secret.
                    let line = text.lines().nth(place.line.saturating_sub(1)).unwrap_or_default();
                    let line = line.split('=').next().unwrap_or_default().trim();
                    let text = match error.message().trim() {
                        "duplicate key" => {
                            format!("`{line}` is there twice; give one another name, or put both into one")
                        }
                        message => format!("not TOML: {message}"),
                    };
                    mistakes.push(Mistake { place, text });
                }
            }
        }
        if !mistakes.is_empty() {
            return Err(mistakes);
        }
        Ok(Reader { root, files, environment, mistakes, exposed: Vec::new() })
    }

    /// The project, if nothing was wrong with it.
    pub(super) fn finish<T>(mut self, value: T) -> Result<T, Vec<Mistake>> {
        if self.mistakes.is_empty() {
            return Ok(value);
        }
        self.mistakes.sort_by_key(|mistake| (mistake.place.file, mistake.place.line, mistake.place.column));
        Err(self.mistakes)
    }

    pub(super) fn root(&self) -> Section {
        self.open(&self.root, String::new(), Place::default())
    }

    pub(super) fn mistake(&mut self, place: Place, text: impl Into<String>) {
        self.mistakes.push(Mistake { place, text: text.into() });
    }

    pub(super) fn mistake_at(&mut self, section: &Section, key: &str, text: impl Into<String>) {
        let place = section.get(key).map_or(section.place, |(_, place)| place);
        self.mistake(place, text);
    }

    /// Where a key stands, or the section without it.
    pub(super) fn place_in(&self, section: &Section, key: &str) -> Place {
        section.get(key).map_or(section.place, |(_, place)| place)
    }

    pub(super) fn missing(&mut self, section: &Section, key: &str, remedy: &str) {
        self.mistake(section.place, format!("`{}` lacks `{key}`: {remedy}", section.label));
    }

    /// Reports every key that is not among `known`.
    pub(super) fn only(&mut self, section: &Section, known: &[&str]) {
        for (key, (_, place)) in &section.entries {
            if !known.contains(&key.as_str()) {
                let hint = did_you_mean(key, known.iter().copied());
                let whose =
                    if section.label.is_empty() { "the file".to_owned() } else { format!("`{}`", section.label) };
                self.mistake(
                    *place,
                    format!(
                        "unknown key `{key}`{hint}{} {whose} takes {}",
                        if hint.is_empty() { ";" } else { "" },
                        known.join(", ")
                    ),
                );
            }
        }
    }

    /// A table under `key`.
    pub(super) fn section(&mut self, parent: &Section, key: &str) -> Option<Section> {
        let (item, place) = parent.get(key)?;
        let label = label_under(parent, key);
        if let Some(table) = item.as_table_like() {
            return Some(self.open(table, label, place));
        }
        self.mistake(place, format!("expected a table `[{label}]`, found {}", item.type_name()));
        None
    }

    /// The tables under a section, by name.
    pub(super) fn named_sections(&mut self, parent: &Section) -> Vec<(String, Section)> {
        let names: Vec<String> = parent.entries.keys().cloned().collect();
        names.into_iter().filter_map(|name| self.section(parent, &name).map(|section| (name, section))).collect()
    }

    /// The tables of an array of tables under `key`.
    pub(super) fn sections(&mut self, parent: &Section, key: &str) -> Vec<Section> {
        let Some((item, place)) = parent.get(key) else { return Vec::new() };
        let label = label_under(parent, key);
        match item {
            Item::ArrayOfTables(tables) => {
                let at = |span| self.files.place(span);
                tables.iter().map(|table| self.open(table, label.clone(), at(table.span()))).collect()
            }
            other => {
                let text = format!("expected `[[{label}]]`, found {}", other.type_name());
                self.mistake(place, text);
                Vec::new()
            }
        }
    }

    /// The tables of a list of inline tables, or of an array of tables, under `key`.
    pub(super) fn sections_or_inline(&mut self, parent: &Section, key: &str) -> Vec<Section> {
        let Some((Item::Value(Value::Array(items)), place)) = parent.get(key) else {
            return self.sections(parent, key);
        };
        let label = label_under(parent, key);
        let (items, place) = (items.clone(), place);
        let mut found = Vec::new();
        for item in &items {
            match item.as_inline_table() {
                Some(table) => {
                    let at = self.files.place(table.span());
                    found.push(self.open(table, label.clone(), if table.span().is_some() { at } else { place }));
                }
                None => self.mistake(place, format!("`{key}` expects a list of tables, such as [{{ url = \"…\" }}]")),
            }
        }
        found
    }

    /// Whatever is under `key`.
    pub(super) fn value(&self, section: &Section, key: &str) -> Option<Item> {
        section.get(key).map(|(item, _)| item.clone())
    }

    /// A text under `key`, with `${VARIABLE}` filled in from the environment.
    pub(super) fn text(&mut self, section: &Section, key: &str) -> Option<String> {
        let (item, place) = section.get(key)?;
        match item.as_str() {
            Some(text) => self.expand(text, place),
            None => {
                self.mistake(place, format!("`{key}` expects text in quotes, found {}", item.type_name()));
                None
            }
        }
    }

    /// A secret under `key`: as [`Reader::text`], and noted where `is_written` finds one in the file itself.
    pub(super) fn secret(&mut self, section: &Section, key: &str, is_written: fn(&str) -> bool) -> Option<Secret> {
        if let Some((item, place)) = section.get(key)
            && item.as_str().is_some_and(is_written)
        {
            let label = label_under(section, key);
            let text = format!(
                "`{label}` has a secret in it that whoever reads the file can see; write `${{VARIABLE}}` in its place, and set that in \
                 the environment"
            );
            self.exposed.push(Mistake { place, text });
        }
        self.text(section, key).map(Secret)
    }

    /// A list of texts under `key`; absent is empty.
    pub(super) fn texts(&mut self, section: &Section, key: &str) -> Vec<String> {
        let Some((item, place)) = section.get(key) else { return Vec::new() };
        let texts = item.as_array().map(|array| array.iter().map(Value::as_str).collect::<Option<Vec<_>>>());
        match texts {
            Some(Some(texts)) => texts.into_iter().map(str::to_owned).collect(),
            _ => {
                self.mistake(place, format!("`{key}` expects a list of texts, such as [\"a\", \"b\"]"));
                Vec::new()
            }
        }
    }

    /// A rule under `key`, as it is written: nothing is filled in.
    pub(super) fn rule(&mut self, section: &Section, key: &str) -> Option<RuleText> {
        let (item, place) = section.get(key)?;
        let Some(text) = item.as_str() else {
            self.mistake(place, format!("`{key}` expects a rule in quotes, found {}", item.type_name()));
            return None;
        };
        let (place, verbatim) = self.place_of_text(item, text).map_or((place, false), |place| (place, true));
        Some(RuleText { text: text.to_owned(), place, verbatim })
    }

    /// The rules of a table under `key`, by what they are for.
    pub(super) fn rules(&mut self, section: &Section, key: &str) -> IndexMap<String, RuleText> {
        let Some(rules) = self.section(section, key) else { return IndexMap::new() };
        let names: Vec<String> = rules.keys().map(str::to_owned).collect();
        names.into_iter().filter_map(|name| self.rule(&rules, &name).map(|rule| (name, rule))).collect()
    }

    /// Where the first letter of a text stands, if it is in the file letter by letter.
    fn place_of_text(&self, item: &Item, text: &str) -> Option<Place> {
        let span = item.span()?;
        let written = self.files.text.get(span.clone())?;
        let quotes = if written.starts_with("\"\"\"") || written.starts_with("'''") { 3 } else { 1 };
        let inner = written.get(quotes..written.len().checked_sub(quotes)?)?;
        let newline = if quotes == 3 && inner.starts_with('\n') { 1 } else { 0 };
        let start = span.start + quotes + newline;
        (&inner[newline..] == text).then(|| self.files.place(Some(start..span.end)))
    }

    /// A name that GraphQL allows.
    pub(super) fn graphql_name(&mut self, section: &Section, key: &str) -> Option<String> {
        let name = self.text(section, key)?;
        if is_graphql_name(&name) {
            return Some(name);
        }
        let text =
            format!("`{name}` is not a GraphQL name: letters, digits and `_`, not beginning with a digit or with `__`");
        self.mistake_at(section, key, text);
        None
    }

    /// A yes or no under `key`; absent is no.
    pub(super) fn flag(&mut self, section: &Section, key: &str) -> bool {
        let Some((item, place)) = section.get(key) else { return false };
        item.as_bool().unwrap_or_else(|| {
            self.mistake(place, format!("`{key}` expects true or false, found {}", item.type_name()));
            false
        })
    }

    /// A whole number under `key`, within bounds.
    pub(super) fn number(&mut self, section: &Section, key: &str, least: u64, most: u64) -> Option<u64> {
        let (item, place) = section.get(key)?;
        let number = item.as_integer().and_then(|number| u64::try_from(number).ok());
        match number {
            Some(number) if (least..=most).contains(&number) => Some(number),
            _ => {
                let came = item.as_integer().map_or_else(|| item.type_name().to_owned(), |n| n.to_string());
                self.mistake(place, format!("`{key}` expects a whole number from {least} to {most}, found {came}"));
                None
            }
        }
    }

    fn open(&self, table: &dyn TableLike, label: String, place: Place) -> Section {
        let entries = table
            .iter()
            .map(|(key, item)| {
                let span = table.key(key).and_then(|k| k.span()).or_else(|| item.span());
                (key.to_owned(), (item.clone(), self.files.place(span)))
            })
            .collect();
        Section { entries, label, place }
    }

    fn expand(&mut self, text: &str, place: Place) -> Option<String> {
        let mut whole = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once("${") {
            whole.push_str(before);
            let Some((name, tail)) = after.split_once('}') else {
                self.mistake(place, "`${` without `}`");
                return None;
            };
            let Some(value) = (self.environment)(name) else {
                let text = format!(
                    "the environment variable `{name}` is not set; set it, or write a line `{name}=…` in `.puente/environment`"
                );
                self.mistake(place, text);
                return None;
            };
            whole.push_str(&value);
            rest = tail;
        }
        whole.push_str(rest);
        Some(whole)
    }
}

fn label_under(parent: &Section, key: &str) -> String {
    if parent.label.is_empty() { key.to_owned() } else { format!("{}.{key}", parent.label) }
}

/// Adds the tables of a file to those of the files before it.
fn merge(into: &mut Table, from: &Table, files: &Files, mistakes: &mut Vec<Mistake>) {
    for (name, item) in from.iter() {
        let Some(key) = from.key(name) else { continue };
        match (into.get_mut(name), item) {
            (None, _) => {
                into.insert_formatted(key, item.clone());
            }
            (Some(Item::Table(known)), Item::Table(more)) => merge(known, more, files, mistakes),
            (Some(Item::ArrayOfTables(known)), Item::ArrayOfTables(more)) => {
                more.iter().for_each(|table| known.push(table.clone()));
            }
            (Some(known), _) => {
                let place = files.place(key.span().or_else(|| item.span()));
                let first = files.place(known.span());
                let text = format!(
                    "`{name}` is said in another file, too: {} line {}; say it in one of them",
                    first.file.unwrap_or(FILE),
                    first.line
                );
                mistakes.push(Mistake { place, text });
            }
        }
    }
}

pub(super) fn as_usize(number: u64) -> usize {
    usize::try_from(number).unwrap_or(usize::MAX)
}

pub(super) fn as_u32(number: u64) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}
