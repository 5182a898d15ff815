//! Shapes: what the values of a JSON column are made of, as the survey inferred it from samples.
//!
//! ```text
//! samples ─► ShapeSample (counts, no values) ─► Shape (objects, lists, scalars; shares; conflicts) ─► the survey file
//! ```

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use utoipa::ToSchema;

use super::Column;
use crate::value::{DatumRef, Scalar, StorageFormat, read_json, write_scalar};

/// Members of one object at most: one with more has names that are values, and is `JSON`.
const MOST_MEMBERS: usize = 250;
/// Places in one shape at most: what is found after so many is `JSON`.
const MOST_PLACES: usize = 2_000;
/// Bytes of one value at most: a larger one is not looked at.
const MOST_BYTES: usize = 4 << 20;
/// Levels of objects and lists in a shape: what is nested deeper is `JSON`.
const MOST_LEVELS: usize = 12;

/// What the survey found in the values of a JSON column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ColumnShape {
    /// How many values were looked at, rounded to one digit so that the file changes seldom.
    pub samples: u64,
    /// Bytes of the largest of them, rounded likewise.
    #[serde(default)]
    pub largest: u64,
    /// How many of a hundred of them are not JSON, at least one where any is.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub unreadable: u8,
    /// What they are.
    pub shape: Shape,
}

/// What was found at one place: of a column, of a member, of the items of a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Shape {
    /// What the values are.
    #[serde(rename = "type")]
    pub kind: ShapeType,
    /// In how many of a hundred of the objects around it a member is: 100 only where all have it, at least 1.
    #[serde(default = "all", skip_serializing_if = "is_all")]
    pub share: u8,
    /// Is it null in some?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub nullable: bool,
    /// The members of an object, in the order in which they were first seen.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    #[schema(no_recursion)]
    pub members: IndexMap<String, Shape>,
    /// The items of a list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(no_recursion)]
    pub items: Option<Box<Shape>>,
    /// Where values are of several types, and `JSON` for that reason: how many of a hundred are of which.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub types: IndexMap<String, u8>,
    /// Why it is `JSON`, where that is not for several types.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notice: Option<String>,
}

impl Shape {
    /// What speaks for it that an object is used as a map: that its members are all of one kind, and are called as keys are (codes,
    /// numbers, dates, versions), or that there are many of which each object has few.
    pub fn used_as_map(&self) -> Option<String> {
        const ENOUGH_KEYS: usize = 5;
        const ENOUGH_SPARSE: usize = 20;
        const SPARSE: usize = 40;
        let count = self.members.len();
        let mut members = self.members.values();
        let first = members.next()?;
        let is_number =
            |shape: &Shape| matches!(shape.kind, ShapeType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Float));
        let are_alike = members.all(|other| other.kind == first.kind || is_number(first) && is_number(other));
        if self.kind != ShapeType::Object || count < ENOUGH_KEYS || !are_alike {
            return None;
        }
        let shares: usize = self.members.values().map(|member| usize::from(member.share)).sum();
        let average = shares / count;
        let called = KEY_FORMS.iter().find(|(_, is_form)| self.members.keys().all(|name| is_form(name)));
        let what = match called {
            // Words of capitals may be fields; where every object has all of a few of them, they are.
            Some((form, _)) if *form != CODES || average <= 60 || count >= ENOUGH_SPARSE => format!("all {form}, "),
            _ if count >= ENOUGH_SPARSE && average <= SPARSE => String::new(),
            _ => return None,
        };
        let names: Vec<String> = self.members.keys().take(2).map(|name| format!("`{name}`")).collect();
        Some(format!("{count} names such as {}, {what}each with {}", names.join(" and "), first.describe()))
    }

    /// Leaves out members by their names, at any depth; tells which.
    pub fn leave_out(&mut self, is_out: fn(&str) -> bool) -> Vec<String> {
        let mut out: Vec<String> = self.members.keys().filter(|name| is_out(name)).cloned().collect();
        self.members.retain(|name, _| !is_out(name));
        for inner in self.members.values_mut().chain(self.items.as_deref_mut()) {
            out.extend(inner.leave_out(is_out));
        }
        out.sort();
        out.dedup();
        out
    }
}

const CODES: &str = "codes";

/// A form of names, by what such names are called.
type KeyForm = (&'static str, fn(&str) -> bool);

/// Forms of names that are keys and no words.
const KEY_FORMS: &[KeyForm] = &[
    ("numbers", |name| !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_digit())),
    ("dates", |name| {
        let parts: Vec<&str> = name.split('-').collect();
        let are_digits = parts.iter().all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()));
        are_digits
            && (2..=3).contains(&parts.len())
            && parts[0].len() == 4
            && parts[1..].iter().all(|part| part.len() == 2)
    }),
    ("versions", |name| {
        let digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
        let name = name.strip_prefix('v').unwrap_or(name);
        name.contains('.') && name.split('.').all(digits)
    }),
    ("ids", |name| {
        let is_hex = |byte: u8| byte.is_ascii_hexdigit() || byte == b'-';
        name.len() >= 12 && name.bytes().all(is_hex) && name.bytes().any(|byte| byte.is_ascii_digit())
    }),
    (CODES, |name| {
        (2..=5).contains(&name.len()) && name.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit())
    }),
    ("languages", |name| {
        let (language, region) = name.split_once(['-', '_']).unwrap_or((name, "XX"));
        language.len() == 2
            && language.bytes().all(|byte| byte.is_ascii_lowercase())
            && region.len() == 2
            && region.bytes().all(|byte| byte.is_ascii_alphabetic())
    }),
];

/// What values are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ShapeType {
    /// Objects with members.
    Object,
    /// Lists of items.
    List,
    /// Single values.
    #[serde(untagged)]
    Scalar(Scalar),
}

impl ToSchema for ShapeType {
    fn name() -> std::borrow::Cow<'static, str> {
        "ShapeType".into()
    }
}

impl utoipa::PartialSchema for ShapeType {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        let names = ["object", "list"].into_iter().chain(Scalar::ALL.iter().map(|scalar| scalar.name()));
        utoipa::openapi::schema::ObjectBuilder::new()
            .schema_type(utoipa::openapi::schema::Type::String)
            .enum_values(Some(names))
            .into()
    }
}

impl ShapeType {
    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            ShapeType::Object => "object",
            ShapeType::List => "list",
            ShapeType::Scalar(scalar) => scalar.name(),
        }
    }
}

impl Shape {
    fn of(kind: ShapeType) -> Self {
        Shape {
            kind,
            share: 100,
            nullable: false,
            members: IndexMap::new(),
            items: None,
            types: IndexMap::new(),
            notice: None,
        }
    }

    /// What nothing is known of.
    pub fn json() -> Self {
        Shape::of(ShapeType::Scalar(Scalar::Json))
    }

    /// Makes it what somebody says that it is: a scalar, a list of one, or no list.
    pub fn correct(&mut self, scalar: Option<Scalar>, list: Option<bool>) {
        let found = match (self.kind, &self.items) {
            (ShapeType::List, Some(items)) => (items.kind, true),
            (kind, _) => (kind, false),
        };
        let kind = scalar.map_or(found.0, ShapeType::Scalar);
        let is_list = list.unwrap_or(found.1 && scalar.is_none());
        let ShapeType::Scalar(_) = kind else { return };
        if (kind, is_list) == found {
            return;
        }
        let (share, nullable) = (self.share, self.nullable);
        *self = match is_list {
            true => Shape { items: Some(Box::new(Shape::of(kind))), ..Shape::of(ShapeType::List) },
            false => Shape::of(kind),
        };
        (self.share, self.nullable) = (share, nullable);
    }

    /// Is it worth a type of its own: an object, or a list?
    pub fn is_structured(&self) -> bool {
        match self.kind {
            ShapeType::Object => !self.members.is_empty(),
            ShapeType::List => self.items.as_ref().is_some_and(|items| items.kind != ShapeType::Scalar(Scalar::Json)),
            ShapeType::Scalar(_) => false,
        }
    }

    /// What it is, in a few words: `object`, `list of String`, `JSON (Int 60 %, String 40 %)`.
    pub fn describe(&self) -> String {
        match (self.kind, &self.items) {
            (ShapeType::List, Some(items)) => format!("list of {}", items.describe()),
            _ if self.types.is_empty() => self.kind.name().to_owned(),
            _ => {
                let types: Vec<String> = self.types.iter().map(|(name, share)| format!("{name} {share} %")).collect();
                format!("{} ({})", self.kind.name(), types.join(", "))
            }
        }
    }

    /// Every place of it with the way that leads there, itself first: members by name, the items of a list as `[]`.
    pub fn places(&self) -> Vec<(Vec<&str>, &Shape)> {
        let mut found = Vec::new();
        self.add_places(&mut Vec::new(), &mut found);
        found
    }

    fn add_places<'s>(&'s self, way: &mut Vec<&'s str>, found: &mut Vec<(Vec<&'s str>, &'s Shape)>) {
        found.push((way.clone(), self));
        let items = self.items.as_deref().map(|items| (ITEMS, items));
        let members = self.members.iter().map(|(name, member)| (name.as_str(), member));
        for (step, below) in members.chain(items) {
            way.push(step);
            below.add_places(way, found);
            way.pop();
        }
    }
}

/// The step from a list to its items, in a way through a shape.
pub const ITEMS: &str = "[]";

/// A value that is looked at.
#[derive(Debug, Clone, PartialEq)]
pub enum Sampled<'v> {
    /// Null.
    Null,
    /// True or false.
    Boolean,
    /// A whole number of 64 bits.
    Integer(i64),
    /// Another number.
    Number,
    /// A text.
    Text(&'v str),
    /// A value of a type that documents have, and JSON has not.
    Scalar(Scalar),
    /// A list of items.
    List(Vec<Sampled<'v>>),
    /// Members, each with its name.
    Object(Vec<(&'v str, Sampled<'v>)>),
}

impl<'v> From<&'v Json> for Sampled<'v> {
    fn from(json: &'v Json) -> Self {
        match json {
            Json::Null => Sampled::Null,
            Json::Bool(_) => Sampled::Boolean,
            Json::Number(number) => number.as_i64().map_or(Sampled::Number, Sampled::Integer),
            Json::String(text) => Sampled::Text(text),
            Json::Array(items) => Sampled::List(items.iter().map(Sampled::from).collect()),
            Json::Object(members) => {
                Sampled::Object(members.iter().map(|(name, member)| (name.as_str(), member.into())).collect())
            }
        }
    }
}

/// What was seen of a column's values, or of documents, so far. It holds counts and names of members, and no values.
#[derive(Debug, Clone, Default)]
pub struct ShapeSample {
    /// Are they documents, which have a type of their own for instants?
    of_documents: bool,
    values: u64,
    largest: usize,
    unreadable: u64,
    top: Seen,
    places: usize,
}

#[derive(Debug, Clone, Default)]
struct Seen {
    nulls: u64,
    booleans: u64,
    /// Integers of 32 bits, of 64 bits, and all other numbers.
    integers: [u64; 2],
    numbers: u64,
    texts: Texts,
    /// Values of types that JSON has not.
    others: IndexMap<Scalar, u64>,
    objects: u64,
    members: IndexMap<String, Seen>,
    lists: u64,
    items: Option<Box<Seen>>,
    /// Is there a member that no engine can be asked for?
    unaskable: bool,
    /// Why nothing more is looked at inside.
    closed: Option<&'static str>,
}

/// What was seen of texts at one place.
#[derive(Debug, Clone, Default)]
struct Texts {
    count: u64,
    /// How many are of each scalar that texts may be of.
    fit: [u64; TEXTUAL.len()],
    /// The lengths of the shortest and the longest: points in time order as their texts do where all are as long.
    lengths: Option<(usize, usize)>,
}

/// The scalars that a text may be of, and how long its longest form is.
const TEXTUAL: [(Scalar, usize); 4] =
    [(Scalar::Date, 10), (Scalar::Time, 18), (Scalar::DateTime, 32), (Scalar::LocalDateTime, 32)];

impl Texts {
    fn see(&mut self, text: &str) {
        self.count += 1;
        let (shortest, longest) = self.lengths.unwrap_or((text.len(), text.len()));
        self.lengths = Some((shortest.min(text.len()), longest.max(text.len())));
        for (fit, (scalar, longest)) in self.fit.iter_mut().zip(TEXTUAL) {
            let has_form = match scalar {
                // As JSON usually has them, and in one time zone.
                Scalar::DateTime => text.ends_with('Z') && text.get(10..11) == Some("T"),
                Scalar::LocalDateTime => !text.ends_with('Z') && text.get(10..11) == Some("T"),
                Scalar::Time => text.len() >= 8,
                _ => true,
            };
            let fits = || write_scalar(&mut Vec::new(), scalar, DatumRef::Text(text.as_bytes())).is_ok();
            *fit += u64::from(text.len() <= longest && has_form && fits());
        }
    }

    fn scalar(&self, of_documents: bool) -> Scalar {
        let are_as_long = self.lengths.is_some_and(|(shortest, longest)| shortest == longest);
        let mut scalars =
            self.fit.iter().zip(TEXTUAL).filter(|(_, (scalar, _))| !of_documents || *scalar != Scalar::DateTime);
        let all = scalars.find(|(fit, _)| are_as_long && **fit == self.count);
        all.map_or(Scalar::String, |(_, (scalar, _))| scalar)
    }
}

impl ShapeSample {
    /// For documents, not for values of JSON.
    pub fn of_documents() -> Self {
        ShapeSample { of_documents: true, ..ShapeSample::default() }
    }

    /// Looks at a document of so many bytes.
    pub fn see_document(&mut self, document: &Sampled<'_>, bytes: usize) {
        self.largest = self.largest.max(bytes);
        self.values += 1;
        self.top.see(document, &mut self.places, MOST_LEVELS);
    }

    /// Looks at one value, in JSON. Null and what is not JSON are counted; what is larger than 4 MB is passed over.
    pub fn see(&mut self, json: &[u8]) {
        self.largest = self.largest.max(json.len());
        if json.len() > MOST_BYTES {
            return;
        }
        self.values += 1;
        match read_json(json) {
            Ok(value) => self.top.see(&Sampled::from(&value), &mut self.places, MOST_LEVELS),
            Err(_) => self.unreadable += 1,
        }
    }

    /// How many values were looked at.
    pub fn values(&self) -> u64 {
        self.values
    }

    /// The shape of what was seen; none where nothing was but null.
    pub fn shape(&self) -> Option<ColumnShape> {
        let shape = self.top.shape(self.of_documents);
        if self.top.present() == 0 {
            return None;
        }
        let samples = super::round(self.values);
        let largest = super::round(u64::try_from(self.largest).unwrap_or(u64::MAX));
        Some(ColumnShape { samples, largest, unreadable: share(self.unreadable, self.values), shape })
    }
}

impl Seen {
    fn see(&mut self, value: &Sampled<'_>, places: &mut usize, levels: usize) {
        match value {
            Sampled::Null => self.nulls += 1,
            Sampled::Boolean => self.booleans += 1,
            Sampled::Integer(value) => self.integers[usize::from(i32::try_from(*value).is_err())] += 1,
            Sampled::Number => self.numbers += 1,
            Sampled::Text(text) => self.texts.see(text),
            Sampled::Scalar(scalar) => *self.others.entry(*scalar).or_default() += 1,
            Sampled::List(items) => {
                self.lists += 1;
                if !items.is_empty() && self.items.is_none() {
                    self.open(places, levels, |seen| seen.items = Some(Box::default()));
                }
                if let Some(below) = self.items.as_deref_mut() {
                    items.iter().for_each(|item| below.see(item, places, levels - 1));
                }
            }
            Sampled::Object(members) => {
                self.objects += 1;
                for (name, member) in members {
                    if !is_askable(name) {
                        self.unaskable = true;
                        continue;
                    }
                    if !self.members.contains_key(*name) {
                        self.open(places, levels, |seen| {
                            drop(seen.members.insert((*name).to_owned(), Seen::default()))
                        });
                    }
                    if let Some(below) = self.members.get_mut(*name) {
                        below.see(member, places, levels - 1);
                    }
                }
            }
        }
    }

    /// Adds a place below, if there is room for it; else nothing inside is looked at any more.
    fn open(&mut self, places: &mut usize, levels: usize, add: impl FnOnce(&mut Self)) {
        if self.closed.is_some() {
            return;
        }
        self.closed = match (levels, self.members.len(), *places) {
            (0, _, _) => Some("it is nested too deeply"),
            (_, MOST_MEMBERS.., _) => Some("its objects have too many different members"),
            (_, _, MOST_PLACES..) => Some("the shape has too many places"),
            _ => None,
        };
        if self.closed.is_some() {
            self.members = IndexMap::new();
            self.items = None;
        } else {
            *places += 1;
            add(self);
        }
    }

    /// How many values there were, beside null.
    fn present(&self) -> u64 {
        let others: u64 = self.others.values().sum();
        let numbers = self.integers.iter().sum::<u64>() + self.numbers;
        self.booleans + numbers + self.texts.count + others + self.objects + self.lists
    }

    fn shape(&self, of_documents: bool) -> Shape {
        // Numbers of several types are numbers all the same: decimal ones hold all others.
        let decimals = self.others.get(&Scalar::Decimal).copied().unwrap_or(0);
        let numbers = self.integers.iter().sum::<u64>() + self.numbers + decimals;
        let number = match self.integers {
            _ if decimals > 0 => Scalar::Decimal,
            _ if self.numbers > 0 => Scalar::Float,
            [_, 0] => Scalar::Int,
            _ => Scalar::BigInt,
        };
        let others = self.others.iter().filter(|(scalar, _)| **scalar != Scalar::Decimal);
        let found: Vec<(ShapeType, u64)> = [
            (ShapeType::Scalar(Scalar::Boolean), self.booleans),
            (ShapeType::Scalar(number), numbers),
            (ShapeType::Scalar(self.texts.scalar(of_documents)), self.texts.count),
            (ShapeType::Object, self.objects),
            (ShapeType::List, self.lists),
        ]
        .into_iter()
        .chain(others.map(|(scalar, count)| (ShapeType::Scalar(*scalar), *count)))
        .filter(|(_, count)| *count > 0)
        .collect();
        let nullable = self.nulls > 0;
        let json = Shape { nullable, ..Shape::of(ShapeType::Scalar(Scalar::Json)) };
        let kind = match found.as_slice() {
            [] => return Shape { notice: Some("nothing but null was found".to_owned()), ..json },
            [(kind, _)] => *kind,
            _ => {
                let all = found.iter().map(|(_, count)| count).sum();
                let types = found.iter().map(|(kind, count)| (kind.name().to_owned(), share(*count, all)));
                return Shape { types: types.collect(), ..json };
            }
        };
        let is_nested = matches!(kind, ShapeType::Object | ShapeType::List);
        if let Some(why) = self.closed.filter(|_| is_nested) {
            return Shape { notice: Some(why.to_owned()), ..json };
        }
        let members = self.members.iter().map(|(name, member)| {
            let there = share(member.present() + member.nulls, self.objects);
            (name.clone(), Shape { share: there, ..member.shape(of_documents) })
        });
        let members: IndexMap<String, Shape> = members.collect();
        if kind == ShapeType::Object && members.is_empty() {
            return Shape { notice: Some("its objects have no members".to_owned()), ..json };
        }
        let items = (kind == ShapeType::List).then(|| match &self.items {
            Some(items) => items.shape(of_documents),
            None => Shape {
                notice: Some("its lists have no items".to_owned()),
                ..Shape::of(ShapeType::Scalar(Scalar::Json))
            },
        });
        let notice = self.unaskable.then(|| "members are left out whose names have quotes or backslashes".to_owned());
        Shape { nullable, members, items: items.map(Box::new), notice, ..Shape::of(kind) }
    }
}

/// The columns that the members of documents are, from the shape of whole documents.
pub fn document_columns(found: &ColumnShape) -> Vec<Column> {
    let column = |(name, member): (&String, &Shape)| {
        let scalar = if let ShapeType::Scalar(scalar) = member.kind { scalar } else { Scalar::Json };
        let is_shaped = scalar == Scalar::Json && member.is_structured();
        let several = (!member.types.is_empty()).then(|| format!("values are of several types: {}", member.describe()));
        Column {
            name: name.clone(),
            declared: String::new(),
            scalar,
            list: false,
            cast: None,
            domain: false,
            form: StorageFormat::Usual,
            nullable: true,
            enforced: false,
            default: None,
            generated: false,
            automatic: false,
            values: Vec::new(),
            collation: None,
            comment: None,
            notice: several.or_else(|| member.notice.clone().filter(|_| !is_shaped)),
            shape: is_shaped.then(|| ColumnShape {
                samples: found.samples,
                largest: found.largest,
                unreadable: 0,
                shape: Shape { share: 100, ..member.clone() },
            }),
        }
    };
    found.shape.members.iter().map(column).collect()
}

/// Can a member of this name be asked for? Engines have no one way to say quotes and backslashes in a path.
pub fn is_askable(name: &str) -> bool {
    const LONGEST: usize = 200;
    (1..=LONGEST).contains(&name.len()) && !name.contains(|c: char| matches!(c, '"' | '\\') || c.is_control())
}

/// How many of a hundred: all only where it is all, and at least one where it is any.
fn share(part: u64, whole: u64) -> u8 {
    match (part * 100).checked_div(whole) {
        None | Some(0) => u8::from(part > 0),
        Some(share) => u8::try_from(share.min(100)).unwrap_or(100),
    }
}

const fn all() -> u8 {
    100
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde's skip_serializing_if passes a reference")]
fn is_all(share: &u8) -> bool {
    *share == 100
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde's skip_serializing_if passes a reference")]
fn is_nothing(share: &u8) -> bool {
    *share == 0
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn seen(values: &[&str]) -> ShapeSample {
        let mut sample = ShapeSample::default();
        values.iter().for_each(|value| sample.see(value.as_bytes()));
        sample
    }

    /// A line per place: where it is, what, and what is worth a word.
    fn told(values: &[&str]) -> Vec<String> {
        let shape = seen(values).shape().unwrap().shape;
        let line = |(way, shape): (Vec<&str>, &Shape)| {
            let share = if shape.share < 100 { format!(" {} %", shape.share) } else { String::new() };
            let null = if shape.nullable { " or null" } else { "" };
            let notice = shape.notice.as_ref().map_or_else(String::new, |notice| format!(": {notice}"));
            format!("/{} {}{share}{null}{notice}", way.join("/"), shape.describe())
        };
        shape.places().into_iter().map(line).collect()
    }

    #[test]
    fn objects_lists_and_optional_members_are_told_with_their_shares() {
        let found = told(&[
            r#"{"snow": 3, "wind": {"from": "NW", "gusts": 12.5}, "tags": ["a", "b"]}"#,
            r#"{"snow": null, "tags": [], "people": [{"age": 7}, {"age": 9, "name": "Ida"}]}"#,
            r#"{"snow": 5000000000, "wind": {"from": "S"}, "tags": null}"#,
        ]);
        assert_eq!(
            found,
            [
                "/ object",
                "/snow BigInt or null",
                "/wind object 66 %",
                "/wind/from String",
                "/wind/gusts Float 50 %",
                "/tags list of String or null",
                "/tags/[] String",
                "/people list of object 33 %",
                "/people/[] object",
                "/people/[]/age Int",
                "/people/[]/name String 50 %",
            ]
        );
    }

    #[rstest]
    #[case::integers(&["1", "-2"], "Int")]
    #[case::large(&["1", "5000000000"], "BigInt")]
    #[case::fractions(&["1", "2.5"], "Float")]
    #[case::beyond_64_bits(&["123456789012345678901234567890"], "Float")]
    #[case::booleans(&["true", "false"], "Boolean")]
    #[case::dates(&["\"2026-07-14\""], "Date")]
    #[case::instants(&["\"2026-07-14T08:30:00Z\"", "\"2026-07-15T08:30:00Z\""], "DateTime")]
    #[case::instants_of_several_precisions(&["\"2026-07-14T08:30:00Z\"", "\"2026-07-15T08:30:00.5Z\""], "String")]
    #[case::instants_of_several_zones(&["\"2026-07-14T08:30:00Z\"", "\"2026-07-14T08:30:00+02:00\""], "String")]
    #[case::local(&["\"2026-07-14T08:30:00\""], "LocalDateTime")]
    #[case::times(&["\"08:30:00\""], "Time")]
    #[case::texts(&["\"2026-07-14\"", "\"soon\""], "String")]
    #[case::several_types(&["1", "2", "\"x\""], "JSON (Int 66 %, String 33 %)")]
    #[case::objects_without_members(&["{}"], "JSON")]
    #[case::empty_lists(&["[]"], "list of JSON")]
    #[case::what_is_not_json_beside_it(&["1", "{", ""], "Int")]
    fn a_place_is_judged_by_all_that_was_seen_there(#[case] values: &[&str], #[case] expected: &str) {
        assert_eq!(seen(values).shape().unwrap().shape.describe(), expected);
    }

    #[test]
    fn what_is_not_json_is_counted_and_nothing_but_null_has_no_shape() {
        assert_eq!(seen(&["{\"a\": 1}", "{", "nul"]).shape().unwrap().unreadable, 66);
        assert!(seen(&["null", "{"]).shape().is_none());
    }

    #[rstest]
    #[case::currencies(&[r#"{"USD": 1, "EUR": 0.9, "CHF": 1.1}"#, r#"{"JPY": 150, "NOK": 11}"#], Some("5 names such as `USD` and `EUR`, all codes, each with Int"))]
    #[case::years(&[r#"{"2020": {"n": 1}, "2021": {"n": 2}, "2022": {"n": 3}, "2023": {"n": 3}, "2024": {"n": 3}}"#], Some("all numbers, each with object"))]
    #[case::days(&[r#"{"2024-01-01": 1, "2024-01-02": 1, "2024-01-03": 1, "2024-01-04": 1, "2024-01-05": 1}"#], Some("all dates"))]
    #[case::languages(&[r#"{"en": "a", "de": "b", "fr": "c", "pt-BR": "d", "it": "e"}"#], Some("all languages"))]
    #[case::a_few_words_of_capitals(&[r#"{"CPU": 1, "RAM": 2, "SSD": 3, "GPU": 4, "NIC": 5}"#], None)]
    #[case::fields(&[r#"{"id": 1, "name": "x", "age": 3, "city": "y", "zip": "z"}"#], None)]
    #[case::alike_fields(&[r#"{"street": "a", "city": "b", "zip": "c", "country": "d", "state": "e", "line": "f"}"#], None)]
    #[case::a_few_keys(&[r#"{"2023": 1, "2024": 2}"#], None)]
    fn an_object_used_as_a_map_is_told_from_one_with_fields(#[case] values: &[&str], #[case] evidence: Option<&str>) {
        let found = seen(values).shape().unwrap().shape.used_as_map();
        assert_eq!(found.is_some(), evidence.is_some(), "{found:?}");
        assert!(found.unwrap_or_default().contains(evidence.unwrap_or_default()));
    }

    #[test]
    fn a_shape_stays_small_whatever_it_is_made_of() {
        let many: Vec<String> = (0..10_000).map(|at| format!("\"m{at}\": {at}")).collect();
        let found = told(&[&format!("{{\"in\": {{{}}}, \"b\": 1}}", many.join(","))]);
        assert_eq!(found, ["/ object", "/in JSON: its objects have too many different members", "/b Int"]);
        let deep = format!("{}1{}", "{\"a\":".repeat(90), "}".repeat(90));
        assert_eq!(told(&[&deep]).last().unwrap(), "/a/a/a/a/a/a/a/a/a/a/a/a JSON: it is nested too deeply");
        let wide = |from: usize| {
            let members: Vec<String> = (0..200).map(|at| format!("\"m{at}\": 1")).collect();
            format!("{{\"o{from}\": {{{}}}}}", members.join(","))
        };
        let values: Vec<String> = (0..20).map(wide).collect();
        let values: Vec<&str> = values.iter().map(String::as_str).collect();
        assert!(told(&values).len() <= MOST_PLACES + 1);
        let digits = format!("{{\"{}\": [1]}}", "$serde_json::private::Number");
        assert_eq!(told(&[&digits]).len(), 3, "a member of that name is a member like others");
    }

    #[test]
    fn members_that_no_engine_can_be_asked_for_are_left_out() {
        let found = told(&[r#"{"a'b.c$[0]": 1, "x\"y": 2, "x\\y": 3, "": 4, "z\n": 5}"#]);
        assert_eq!(found, ["/ object: members are left out whose names have quotes or backslashes", "/a'b.c$[0] Int"]);
    }

    #[test]
    fn a_shape_reads_back_as_it_was_written() {
        let shape = seen(&[r#"{"a": [1, "x"], "b": {"c": null}}"#, "{}"]).shape().unwrap();
        let text = serde_json::to_string(&shape).unwrap();
        assert_eq!(serde_json::from_str::<ColumnShape>(&text).unwrap(), shape, "{text}");
    }
}
