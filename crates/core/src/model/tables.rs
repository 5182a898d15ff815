//! Which table a name in the project file means: `huts`, or where several sources have a table of one name, `alpine:huts`.

use std::collections::HashMap;

use super::SourceId;
use super::habits::Habits;
use crate::catalog::{Catalog, Table};
use crate::project::{Mistake, Place, Project, TypeEdit};
use crate::suggest::did_you_mean;

/// The tables of all sources, by the names that the project file may call them.
pub(super) struct Tables<'a> {
    sources: Vec<(&'a str, &'a Catalog)>,
    habits: &'a [Habits],
}

/// A table and the source that it is in.
#[derive(Debug, Clone, Copy)]
pub(super) struct TableOf<'a> {
    pub(super) source: SourceId,
    pub(super) table: &'a Table,
}

impl<'a> Tables<'a> {
    pub(super) fn new(catalogs: &[&'a Catalog], project: &'a Project, habits: &'a [Habits]) -> Self {
        let names = project.sources.iter().map(|source| source.name.as_str());
        Tables { sources: names.zip(catalogs.iter().copied()).collect(), habits }
    }

    /// Every table, source by source.
    pub(super) fn all(&self) -> impl Iterator<Item = TableOf<'a>> + use<'_, 'a> {
        let tables = self.sources.iter().enumerate();
        tables.flat_map(|(source, (_, catalog))| catalog.tables.iter().map(move |table| TableOf { source, table }))
    }

    pub(super) fn source_name(&self, source: SourceId) -> &'a str {
        self.sources[source].0
    }

    /// What the names in a source have in common.
    pub(super) fn habits(&self, source: SourceId) -> &'a Habits {
        &self.habits[source]
    }

    pub(super) fn catalog(&self, source: SourceId) -> &'a Catalog {
        self.sources[source].1
    }

    /// Is there more than one source?
    pub(super) fn are_of_several(&self) -> bool {
        self.sources.len() > 1
    }

    /// The table that a name means.
    ///
    /// # Errors
    /// A sentence with the remedy: there is none, or there are several.
    pub(super) fn find(&self, name: &str) -> Result<TableOf<'a>, String> {
        let found: Vec<TableOf<'a>> = self.all().filter(|of| of.table.name == name).collect();
        match found.as_slice() {
            [only] => Ok(*only),
            [] => self.find_in_source(name),
            several => {
                let names = several.iter().map(|of| format!("`{}:{name}`", self.source_name(of.source)));
                Err(format!("several sources have a table `{name}`; write {}", names.collect::<Vec<_>>().join(" or ")))
            }
        }
    }

    fn find_in_source(&self, name: &str) -> Result<TableOf<'a>, String> {
        let unknown = |tables: &[&'a Table], said: &str, place: &str| {
            let hint = did_you_mean(said, tables.iter().map(|table| table.name.as_str()));
            format!("{place} no table `{said}`{hint} (if it is new, run `puente survey`)")
        };
        let all = || self.all().map(|of| of.table).collect::<Vec<_>>();
        let Some((source_name, table_name)) = name.split_once(':') else {
            return Err(unknown(
                &all(),
                name,
                if self.are_of_several() { "the surveys have" } else { "the survey has" },
            ));
        };
        let known = || self.sources.iter().map(|(name, _)| *name);
        let Some(source) = known().position(|known| known == source_name) else {
            let hint = did_you_mean(source_name, known());
            let names: Vec<String> = known().map(|name| format!("`{name}`")).collect();
            return Err(format!(
                "`{source_name}` of `{name}` is not a source of the project{hint}; sources are {}, and \
                 `[source.{source_name}]` would add it",
                names.join(" and ")
            ));
        };
        let catalog = self.catalog(source);
        catalog.table(table_name).map(|table| TableOf { source, table }).ok_or_else(|| {
            let tables: Vec<&Table> = catalog.tables.iter().collect();
            unknown(&tables, table_name, &format!("the survey of `{source_name}` has"))
        })
    }

    /// What the project file says of each table.
    ///
    /// # Errors
    /// As mistakes, what it says of tables that are not there, and twice of the same one.
    pub(super) fn edits(
        &self,
        project: &'a Project,
        mistakes: &mut Vec<Mistake>,
    ) -> HashMap<(SourceId, &'a str), &'a TypeEdit> {
        let mut edits: HashMap<(SourceId, &'a str), &'a TypeEdit> = HashMap::new();
        let mut mistake = |place: Place, text: String| mistakes.push(Mistake { place, text });
        for (name, edit) in &project.types {
            match self.find(name) {
                Ok(TableOf { source, table }) => {
                    if edits.insert((source, &table.name), edit).is_some() {
                        mistake(edit.place, format!("a second `[[type]]` for table `{name}`; put both into one"));
                    }
                }
                Err(text) => mistake(edit.place, text),
            }
        }
        edits
    }
}
