//! Mutations: what is to be written, and what is then to be answered.
//!
//! A [`Mutation`] is made again for every request: which statements run depends on its values, on what is there already,
//! and on the keys that the database gives. Conditions of the role are part of it from the start: which rows may be
//! addressed, what a link may lead to, what must be true of a row after the change.

mod build;
mod elsewhere;
mod json;
mod rows;

use std::collections::HashMap;
use std::sync::Arc;

pub use build::{build_mutation, existing_words, field_name};
pub use elsewhere::EndsElsewhere;
pub use json::{JsonChange, SetWord};
pub use rows::{LINK_WORDS, edge_input_fields, has_link_input};

use super::{BoundPlan, Sealed, Select, SelectId};
use crate::access::Predicate;
use crate::error::{Location, Problem};
use crate::model::{ColumnId, Link, LinkId, Model, SourceId, TypeId};
use crate::value::Datum;

/// The select of a change's answer that stands for the changed rows; the source fills it.
pub const GIVEN: SelectId = 0;
/// The select of a change's answer that has one row: how many rows were addressed.
pub const COUNT: SelectId = 1;

/// Index of a lookup in [`Change::lookups`].
pub type LookupId = usize;

/// All changes of one operation: one transaction, in order.
#[derive(Debug)]
pub struct Mutation {
    source: SourceId,
    roots: Vec<Root>,
    most_changes: usize,
}

/// One root field.
#[derive(Debug)]
pub struct Root {
    /// The response key.
    pub key: String,
    /// Where in the document.
    pub location: Option<Location>,
    /// The change; none for `__typename`.
    pub change: Option<Change>,
    /// What other sources have to be asked first.
    pub elsewhere: Vec<EndsElsewhere>,
    /// What is answered, and the values of every condition.
    pub answer: BoundPlan,
    /// Only planning makes one.
    _sealed: Sealed,
}

/// One change.
#[derive(Debug)]
pub struct Change {
    /// The type whose rows are changed.
    pub of: TypeId,
    /// What is done.
    pub act: Act,
    /// What finds rows by key.
    pub lookups: Vec<Lookup>,
    /// What must be true of rows after they were created (`true`) or updated, by type.
    pub checks: HashMap<(TypeId, bool), LookupId>,
    /// What is taken from linked rows when rows are created (`true`) or updated, whatever the caller says, by type.
    pub linked: HashMap<(TypeId, bool), Vec<LinkedValue>>,
    /// Which targets a link may be set to, where not to all; none, to no target at all, because its type cannot be read.
    pub visible: HashMap<(TypeId, LinkId), Option<LookupId>>,
    /// What is written into JSON and is the end of a link: to targets that the role can read, as everywhere.
    pub ends: Vec<WrittenEnd>,
    /// The fields of the types that are written, by column: those that the caller may write, which alone an error names.
    pub fields: HashMap<TypeId, Vec<Option<String>>>,
    /// Which types the caller can read, which alone an error names.
    pub readable: Arc<[bool]>,
    /// Only planning makes one.
    _sealed: Sealed,
}

/// Values that are written into JSON and lead over a link: of an item of a list, or of members of an object.
#[derive(Debug)]
pub struct WrittenEnd {
    /// The type that the link leaves.
    pub of: TypeId,
    /// The link.
    pub link: LinkId,
    /// The target's values of what it follows.
    pub key: Vec<Datum>,
    /// Where in the input.
    pub place: String,
}

/// What a change does.
#[derive(Debug)]
pub enum Act {
    /// Creates rows.
    Create {
        /// The rows.
        rows: Vec<NewRow>,
        /// What happens where one is there already; absent, it is refused.
        existing: Option<Existing>,
    },
    /// Changes rows.
    Update {
        /// Which.
        address: Address,
        /// What of them.
        set: Set,
    },
    /// Deletes rows.
    Delete {
        /// Which.
        address: Address,
    },
}

/// Which rows a change is about.
#[derive(Debug)]
pub struct Address {
    /// Finds them, locked and in the order of their keys. Delivers [`locator`], then the values of the revision.
    pub select: Select,
    /// The columns that it delivers.
    pub outputs: Vec<ColumnId>,
    /// The one row of a key? Then it must be there.
    pub one: bool,
    /// The most rows.
    pub most: usize,
    /// The revision that the row must have.
    pub revision: Option<String>,
    /// The columns that make a revision.
    pub revision_of: Vec<ColumnId>,
    /// The same row wherever it can be read, where the grant is about some rows only: one that is not addressed is not permitted
    /// if it is there, and missing if it is not.
    pub readable: Option<Box<Address>>,
}

/// What becomes of a column.
#[derive(Debug, Clone, PartialEq)]
pub enum Assignment {
    /// It is set to a value.
    Value(Datum),
    /// A number is added to it.
    Add(Datum),
    /// Its JSON is changed in part.
    Json(JsonChange),
}

impl Assignment {
    /// The value that it is set to, where it is.
    pub fn value(&self) -> Option<&Datum> {
        if let Assignment::Value(value) = self { Some(value) } else { None }
    }

    /// The values that are bound for it, in the order in which it says them.
    pub fn given(&self) -> Vec<&Datum> {
        let mut found = Vec::new();
        match self {
            Assignment::Value(value) | Assignment::Add(value) => found.push(value),
            Assignment::Json(change) => change.given(&mut found),
        }
        found
    }
}

/// What is set in rows that are there.
#[derive(Debug, Default)]
pub struct Set {
    /// What becomes of columns.
    pub values: Vec<(ColumnId, Assignment)>,
    /// Which of them the grant fixes, whatever the caller says.
    pub fixed: Vec<ColumnId>,
    /// Finds rows in whose JSON nothing is lost: what is in these columns, which are changed in part, is of its type, or null.
    pub fitting: Option<(LookupId, Vec<ColumnId>)>,
    /// Finds rows whose numbers still are of their type, where the engine would keep larger ones.
    pub in_range: Option<LookupId>,
    /// To-one links.
    pub ones: Vec<(LinkId, Target)>,
    /// Many-to-many links.
    pub edges: Vec<EdgeChange>,
}

/// What changes of one many-to-many link.
#[derive(Debug)]
pub struct EdgeChange {
    /// The link.
    pub link: LinkId,
    /// What is linked.
    pub add: Vec<EdgeRow>,
    /// What is unlinked.
    pub remove: Vec<Target>,
    /// Finds rows of the join table by both of its ends, locked, among those that may be deleted.
    pub removable: Option<LookupId>,
    /// The same among those that may be updated.
    pub updatable: Option<LookupId>,
}

/// A row to be created.
#[derive(Debug)]
pub struct NewRow {
    /// Where in the input, such as `inputs[3].hut`.
    pub place: String,
    /// Columns with their values.
    pub values: Vec<(ColumnId, Datum)>,
    /// Which of them the grant fixes, whatever the caller says.
    pub fixed: Vec<ColumnId>,
    /// To-one links.
    pub ones: Vec<(LinkId, Target)>,
    /// Rows at the other end of to-many links, created with it.
    pub many: Vec<(LinkId, Vec<NewRow>)>,
    /// Many-to-many links.
    pub edges: Vec<(LinkId, Vec<EdgeRow>)>,
    /// What is set instead where the row is there already, and is to be changed.
    pub existing: Option<RowChange>,
}

/// What is set in one row that is there already: judged by the grant to update, whatever may be created.
#[derive(Debug)]
pub struct RowChange {
    /// Columns with their values, those that the grant fixes among them.
    pub values: Vec<(ColumnId, Datum)>,
    /// Which of them the grant fixes, whatever the caller says.
    pub fixed: Vec<ColumnId>,
    /// A field that the caller said and that the grant does not let it change: then nothing of the row is.
    pub refused: Option<String>,
}

/// The other end of a link.
#[derive(Debug)]
pub enum Target {
    /// A row that is there.
    Key {
        /// Finds it.
        lookup: LookupId,
        /// By these values.
        key: Vec<Datum>,
        /// Where in the input.
        place: String,
    },
    /// A row that is created along.
    New(Box<NewRow>),
}

/// A row of a join table to be created.
#[derive(Debug)]
pub struct EdgeRow {
    /// The other end.
    pub target: Target,
    /// The join table's other columns.
    pub values: Vec<(ColumnId, Datum)>,
    /// Which of them the grant fixes, whatever the caller says.
    pub fixed: Vec<ColumnId>,
    /// Where in the input.
    pub place: String,
    /// What is set instead where the row is there already; none where the caller says nothing of it.
    pub existing: Option<RowChange>,
}

/// A value that a grant fixes from a linked row.
#[derive(Debug)]
pub struct LinkedValue {
    /// The column that is set.
    pub column: ColumnId,
    /// The columns from which the first link starts.
    pub from: Vec<ColumnId>,
    /// What finds the linked row, then the one that it links to, and so on. Each delivers the key of the next; the last the value.
    pub way: Vec<LookupId>,
}

/// What happens where a row of a key is there already.
#[derive(Debug)]
pub struct Existing {
    /// The key's columns.
    pub key: Vec<ColumnId>,
    /// Is the row changed to what is given, or kept?
    pub changes: bool,
    /// Finds it by the key, locked; delivers [`locator`].
    pub find: LookupId,
}

/// What finds rows by key: at most one per key.
#[derive(Debug)]
pub struct Lookup {
    /// The type.
    pub of: TypeId,
    /// The columns that the keys are values of.
    pub by: Vec<ColumnId>,
    /// The columns that are delivered, after the key's ordinal.
    pub outputs: Vec<ColumnId>,
    /// The rows, hanging on [`GIVEN`] keys.
    pub select: Select,
    /// Are they locked until the transaction ends?
    pub lock: bool,
    /// Only planning makes one.
    _sealed: Sealed,
}

/// Why rows are looked up without the caller's rules: nothing of what is found is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unruled {
    /// Rows that were written are checked again before the end, if they are still there: a later change of the same operation
    /// may have deleted them.
    StillThere,
    /// The database said that a reference leads nowhere, but not which: the caller is told the field it wrote itself.
    WhichReference,
    /// Rows that were just created, on an engine whose inserts do not tell what they made: by the keys that they were given, or
    /// that the engine says it gave. Delivers the row's [`locator`].
    Created,
    /// A reference leads nowhere; is a key taken, too? That is told first, on every engine: engines themselves look in orders of
    /// their own. Delivers the row's key.
    TakenKey,
}

impl Unruled {
    /// The lookup of rows by the values of some columns: after the key's ordinal it delivers nothing but what the reason says.
    pub fn lookup(self, model: &Model, of: TypeId, by: &[ColumnId]) -> Lookup {
        let outputs = match self {
            Unruled::StillThere | Unruled::WhichReference => Vec::new(),
            Unruled::TakenKey => model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default(),
            Unruled::Created => locator(model, of),
        };
        lookup(of, (by, &outputs), Vec::new(), false)
    }
}

/// A lookup of rows under rules.
fn lookup(of: TypeId, (by, outputs): (&[ColumnId], &[ColumnId]), rules: Vec<Predicate>, lock: bool) -> Lookup {
    let select = Select::keyed(of, by, outputs, rules);
    Lookup { of, by: by.to_vec(), outputs: outputs.to_vec(), select, lock, _sealed: Sealed }
}

/// The columns by which a row is known and linked: those of its row key, which come first, of its other keys, and those
/// that its links start from.
pub fn locator(model: &Model, of: TypeId) -> Vec<ColumnId> {
    let t = &model.types[of];
    let mut columns: Vec<ColumnId> = t.row_key().map(|key| key.columns.clone()).unwrap_or_default();
    let keys = t.keys.iter().flat_map(|key| key.columns.iter().copied());
    let linking = |link: &Link| -> Vec<ColumnId> {
        link.through.as_ref().map_or(&link.pairs, |through| &through.near).iter().map(|(own, _)| *own).collect()
    };
    for column in keys.chain(t.links.iter().flat_map(linking)) {
        if !columns.contains(&column) {
            columns.push(column);
        }
    }
    columns
}

impl Change {
    /// The types whose rows it may write, each once: its own, and those of rows that are created or linked along.
    pub fn written(&self, model: &Model) -> Vec<TypeId> {
        let mut found = vec![self.of];
        match &self.act {
            Act::Create { rows, .. } => rows.iter().for_each(|row| row.written(model, self.of, &mut found)),
            Act::Update { set, .. } => {
                let links = &model.types[self.of].links;
                set.ones.iter().for_each(|(link, target)| target.written(model, links[*link].target, &mut found));
                for change in &set.edges {
                    let link = &links[change.link];
                    found.extend(link.through.as_ref().map(|through| through.join));
                    change.add.iter().for_each(|edge| edge.target.written(model, link.target, &mut found));
                }
            }
            Act::Delete { .. } => {}
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Is a row written in one statement? Values that a grant fixes from linked rows are set after the others.
    pub fn is_one_statement(&self) -> bool {
        let is_linked = |created| self.linked.get(&(self.of, created)).is_some_and(|values| !values.is_empty());
        match &self.act {
            Act::Create { rows, .. } => {
                matches!(rows.as_slice(), [row] if row.is_alone() && (row.existing.is_none() || !is_linked(false)))
            }
            Act::Update { address, set } => {
                address.one && set.edges.is_empty() && set.ones.is_empty() && !is_linked(false)
            }
            Act::Delete { address } => address.one,
        }
    }
}

impl Target {
    fn written(&self, model: &Model, of: TypeId, found: &mut Vec<TypeId>) {
        if let Target::New(row) = self {
            row.written(model, of, found);
        }
    }
}

impl NewRow {
    fn written(&self, model: &Model, of: TypeId, found: &mut Vec<TypeId>) {
        found.push(of);
        let links = &model.types[of].links;
        self.ones.iter().for_each(|(link, target)| target.written(model, links[*link].target, found));
        for (link, rows) in &self.many {
            rows.iter().for_each(|row| row.written(model, links[*link].target, found));
        }
        for (link, edges) in &self.edges {
            found.extend(links[*link].through.as_ref().map(|through| through.join));
            edges.iter().for_each(|edge| edge.target.written(model, links[*link].target, found));
        }
    }

    /// Is nothing created along with it, and nothing linked?
    pub fn is_alone(&self) -> bool {
        self.ones.is_empty() && self.many.is_empty() && self.edges.is_empty()
    }

    /// What the caller said: the values without those that the grant fixes.
    pub fn said(&self) -> impl Iterator<Item = &(ColumnId, Datum)> {
        self.values.iter().filter(|(column, _)| !self.fixed.contains(column))
    }
}

impl Mutation {
    /// The source that it writes.
    pub fn source(&self) -> SourceId {
        self.source
    }

    /// The root fields.
    pub fn roots(&self) -> &[Root] {
        &self.roots
    }

    /// How many rows and edges the operation may touch in all.
    pub fn most_changes(&self) -> usize {
        self.most_changes
    }

    /// Does it look whether a row is there before it creates it? Then another may create it in between.
    pub fn may_race(&self) -> bool {
        let looks = |change: &Change| matches!(&change.act, Act::Create { existing: Some(_), .. });
        self.roots.iter().any(|root| root.change.as_ref().is_some_and(looks))
    }
}

/// A problem at a place in the input, such as `inputs[3].hut`.
pub(super) fn at_place(problem: Problem, place: &str) -> Problem {
    Problem { message: format!("{place}: {}", problem.message), ..problem }
}
