//! From a GraphQL operation to an authorised plan, and from a plan and a request's values to a bound one.
//!
//! ```text
//! document text ─► Document (parsed, validated against the role's schema)
//! variables     ─► Variables (coerced)
//! Document + Variables ─► Plan (selects joined by links, conditions, orders, pages), and what was read of them: the key under
//!                         which other requests find the plan (reads.rs). It knows no engine and no language of one.
//! Plan + values ─► BoundPlan (what a source accepts)
//! ```
//!
//! A [`Plan`] is made in [`build`] only, from a role's [`View`](crate::access::View): what the role was not granted is
//! not there to be planned. A [`BoundPlan`] is made in [`Plan::bind`] only.

mod bind;
mod build;
pub mod change;
mod crossing;
mod cursor;
mod document;
mod filter;
mod filter_words;
mod input;
mod introspection;
mod items;
mod layout;
mod order;
mod print;
mod reads;
mod shape;
mod summary;
mod unindexed;
mod variables;

pub use bind::BoundPlan;
pub use build::{Capabilities, Context, REVISION, build, composite_key_type, edge_fields, has_revision};
pub use cursor::{Position, Sealer};
pub use document::{Document, is_mutation};
pub use filter_words::{FilterWord, LINK_FILTER_WORDS, Takes};
pub use layout::presence_column;
pub use shape::{
    ChangeField, ChangeShape, ConnectionField, ConnectionShape, EdgeField, EdgeShape, FieldHead, FieldShape, ItemField,
    ItemRowsShape, ItemShape, ItemValue, ItemsShape, ListShape, NodeId, NodeRows, NodesShape, ObjectShape,
    PageInfoField, PageInfoShape, Value,
};
pub use summary::{GROUP_WORDS, summary_functions};
pub use unindexed::{Unindexed, Use, unindexed};
pub use variables::Variables;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use introspection::Introspection;

use crate::access::{Condition, Hop, Masks, Origin, Path, Predicate};
use crate::error::Location;
use crate::model::{ColumnId, SourceId, TypeId};
use crate::value::{Datum, Scalar, StorageFormat};
use layout::Layout;
use reads::VariablePath;

/// What only planning has: a struct with a field of it can be made nowhere else.
#[derive(Debug)]
pub(in crate::plan) struct Sealed;

/// Index of a select in [`Plan::selects`].
pub type SelectId = usize;

/// What one operation of one document asks of a source, for every request of the same shape.
#[derive(Debug)]
pub struct Plan {
    roots: ObjectShape,
    selects: Vec<Select>,
    layout: Layout,
    sources: Vec<SourceId>,
    key_queries: Vec<KeyQuery>,
    parameters: Vec<Parameter>,
    cursors: Vec<CursorArgument>,
    /// Leaves of callers' filters, for the cost.
    filter_leaves: u64,
    /// What it asks about the schema.
    introspection: Option<Introspection>,
    model: Arc<crate::model::Model>,
    sealer: Sealer,
    /// How many bytes the last answer took.
    usual_bytes: AtomicUsize,
}

/// One select node: the rows of a type, at the root or at the end of a link.
#[derive(Debug)]
pub struct Select {
    /// The type whose rows are read.
    pub of: TypeId,
    /// How the rows hang on a parent's row; absent at the root.
    pub parent: Option<ParentJoin>,
    /// What is delivered of each row.
    pub output: Vec<Output>,
    /// What must be true of each row.
    pub predicates: Vec<Predicate>,
    /// Which columns are masked.
    pub masks: Masks,
    /// What must be true of each row of the join table, where there is one.
    pub join_rows: Option<Arc<Condition>>,
    /// Which columns of the join table are masked; of the rows around a list, where the rows are its items.
    pub join_masks: Masks,
    /// The order, ending with a key where there is one.
    pub order: Vec<OrderTerm>,
    /// Which part of the rows.
    pub row_set: RowSet,
    /// Does the answer need the rows? Not where a connection is only counted.
    pub read: bool,
    /// Does the answer tell whether there are more rows than the page has? Then one more is read.
    pub peek: bool,
    /// Lists inside JSON of which not every item is delivered.
    pub filtered_items: Vec<FilteredItems>,
    /// The key queries that have to be answered first.
    pub needs: Vec<usize>,
    /// Only planning makes selects, from a view; whoever runs them has them by reference.
    _sealed: Sealed,
}

impl Select {
    /// At most one row of a type, of which nothing is delivered yet.
    fn one(of: TypeId, parent: Option<ParentJoin>, predicates: Vec<Predicate>) -> Self {
        Select {
            of,
            parent,
            output: Vec::new(),
            predicates,
            masks: Masks::default(),
            join_rows: None,
            join_masks: Masks::default(),
            order: Vec::new(),
            row_set: RowSet::Single,
            read: true,
            peek: false,
            filtered_items: Vec::new(),
            needs: Vec::new(),
            _sealed: Sealed,
        }
    }

    /// The rows of a type that equal keys, by these columns: at most one per key.
    fn keyed(of: TypeId, by: &[ColumnId], outputs: &[ColumnId], predicates: Vec<Predicate>) -> Self {
        let output = outputs.iter().map(|column| Output::Column(*column)).collect();
        Select { output, ..Select::one(of, Some(ParentJoin::given(by)), predicates) }
    }

    /// Forgets the masks of columns that nothing here shows or compares: the engine need not read them.
    pub(crate) fn keep_needed_masks(&mut self) {
        let is_needed = |column: ColumnId| {
            let (by, orders) = if let RowSet::Groups { by, order, .. } = &self.row_set {
                (&by[..], &order[..])
            } else {
                (&[][..], &[][..])
            };
            let mut shown = self.output.iter().chain(orders.iter().map(|order| &order.value));
            let is_shown = shown.any(|output| match output {
                Output::Column(shown) | Output::Summary(_, shown) => *shown == column,
                Output::Items(shown, _) | Output::Json(shown) => *shown == column,
                Output::Key(shown) | Output::Type(shown) => *shown == column,
                Output::Edge(_) | Output::Order(_) | Output::Count | Output::Group(_) => false,
            });
            let is_value = |path: &Path| path.masked && path.hops.is_empty() && path.column == column;
            is_shown
                || by.iter().any(|term| term.column == column)
                || self.order.iter().any(|term| is_value(&term.path))
                || self.predicates.iter().any(|predicate| predicate.condition.mentions(&is_value))
        };
        if self.masks.iter().any(|(column, _)| !is_needed(*column)) {
            self.masks = self.masks.iter().filter(|(column, _)| is_needed(*column)).cloned().collect();
        }
        let is_joined = self.parent.as_ref().is_some_and(|parent| parent.through.is_some());
        if is_joined && self.join_masks.iter().any(|(column, _)| !self.output.contains(&Output::Edge(*column))) {
            let edges = self.join_masks.iter().filter(|(column, _)| self.output.contains(&Output::Edge(*column)));
            self.join_masks = edges.cloned().collect();
        }
    }

    /// Which output delivers a column.
    pub fn output_of(&self, column: ColumnId) -> Option<usize> {
        self.output
            .iter()
            .position(|output| *output == Output::Key(column))
            .or_else(|| self.output.iter().position(|output| *output == Output::Column(column)))
    }

    /// The scalar of one output; none for a count and for what is not a scalar.
    pub fn scalar(&self, model: &crate::model::Model, output: usize) -> Option<Scalar> {
        let columns = &model.types[self.of].columns;
        let kind = match self.output.get(output)? {
            // It is delivered as it is written in JSON.
            Output::Column(column) if columns[*column].form == StorageFormat::JsonValue => return None,
            Output::Items(..) | Output::Json(_) | Output::Type(_) => return None,
            Output::Column(column) | Output::Key(column) | Output::Summary(Function::Min | Function::Max, column) => {
                columns[*column].kind
            }
            Output::Group(term) => {
                let RowSet::Groups { by, .. } = &self.row_set else { return None };
                columns[by[*term].column].kind
            }
            Output::Order(term) => {
                let path = &self.order[*term].path;
                let of = path.hops.last().map_or(self.of, |hop| model.types[hop.from].links[hop.link].target);
                model.types[of].columns[path.column].kind
            }
            Output::Edge(column) => {
                let join = self.parent.as_ref()?.through.as_ref()?;
                model.types[join.of].columns[*column].kind
            }
            Output::Count | Output::Summary(Function::Sum | Function::Avg, _) => return None,
        };
        if let crate::model::FieldType::Scalar(scalar) = kind { Some(scalar) } else { None }
    }
}

/// Asks a source for the keys that a filter of another source's rows is judged by.
#[derive(Debug)]
pub struct KeyQuery {
    /// The select that delivers each key once.
    pub select: SelectId,
    /// The type whose rows are filtered.
    pub of: TypeId,
    /// Its column that is compared with the keys.
    pub column: ColumnId,
    /// The column of the select's type that has them.
    pub from: ColumnId,
    /// The most keys.
    pub most: u32,
}

/// How a select hangs on its parent.
#[derive(Debug, Clone)]
pub struct ParentJoin {
    /// The parent.
    pub select: SelectId,
    /// The parent's column, and the column that equals it: of the join table where there is one, else of the type. The
    /// parent delivers its columns, unless the select is joined to it.
    pub pairs: Vec<(ColumnId, ColumnId)>,
    /// The join table, if there is one.
    pub through: Option<JoinTable>,
}

/// The join table between a select and its parent.
#[derive(Debug, Clone)]
pub struct JoinTable {
    /// Its type.
    pub of: TypeId,
    /// Its column, and the select's column that equals it.
    pub pairs: Vec<(ColumnId, ColumnId)>,
    /// Can several of its rows join the same two, which are linked once all the same?
    pub repeats: bool,
}

impl ParentJoin {
    /// The rows whose values of these columns a change gives.
    fn given(by: &[ColumnId]) -> Self {
        let pairs = by.iter().map(|column| (*column, *column)).collect();
        ParentJoin { select: change::GIVEN, pairs, through: None }
    }
}

/// What is delivered of a list of objects inside JSON, and of the lists inside its items.
#[derive(Debug, Default)]
pub struct FilteredItems {
    /// What an item must satisfy; absent, all are delivered.
    pub condition: Option<Arc<Condition>>,
    /// Lists inside the items that are filtered, too. Where there are any, each item is delivered as a list: of the item as it is
    /// written, and of these, in this order.
    pub beside: Vec<(ColumnId, FilteredItems)>,
}

impl FilteredItems {
    /// Is the list delivered as it is written?
    fn is_whole(&self) -> bool {
        self.condition.is_none() && self.beside.is_empty()
    }

    fn weight(&self) -> usize {
        let beside: usize = self.beside.iter().map(|(_, items)| items.weight()).sum();
        self.condition.as_ref().map_or(0, |condition| condition.weight()) + beside + std::mem::size_of::<Self>()
    }
}

/// One value that a select delivers per row.
#[derive(Debug, Clone, PartialEq)]
pub enum Output {
    /// A column of the type.
    Column(ColumnId),
    /// A value inside JSON that rows are linked by, as it is compared.
    Key(ColumnId),
    /// What a column's JSON is: `object` or `array`, null, or the type of what it is instead.
    Type(ColumnId),
    /// The whole JSON of a column.
    Json(ColumnId),
    /// A list inside JSON, of which not every item is delivered: by its number among [`Select::filtered_items`].
    Items(ColumnId, usize),
    /// A column of the join table.
    Edge(ColumnId),
    /// The value of an order term that lies behind a link, or inside JSON.
    Order(usize),
    /// How many rows there are.
    Count,
    /// A summary of a column over the rows.
    Summary(Function, ColumnId),
    /// The value of a group, by its number among [`RowSet::Groups`]' terms.
    Group(usize),
}

/// What sums up the values of a column. Nulls do not count; over nothing it is null.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Function {
    /// `sum`
    Sum,
    /// `avg`
    Avg,
    /// `min`
    Min,
    /// `max`
    Max,
}

impl Function {
    /// What the schema says of it.
    pub fn description(self) -> &'static str {
        match self {
            Function::Sum => "All of them added up.",
            Function::Avg => "Their average.",
            Function::Min => "The least of them.",
            Function::Max => "The greatest of them.",
        }
    }
}

/// What rows are grouped by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GroupTerm {
    /// A column of the type.
    pub column: ColumnId,
    /// How much of its value.
    pub unit: GroupUnit,
}

/// How much of a value makes a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GroupUnit {
    /// The whole value.
    Value,
    /// The day of a date or of a date and time.
    Day,
    /// The month.
    Month,
    /// The year.
    Year,
}

/// One term of the order of groups.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupOrder {
    /// The value: a count, a summary or a group's own.
    pub value: Output,
    /// Largest first?
    pub descending: bool,
    /// Nulls before everything else?
    pub nulls_first: bool,
}

/// One term of an order.
#[derive(Debug, Clone, PartialEq)]
pub struct OrderTerm {
    /// The value.
    pub path: Path,
    /// Largest first?
    pub descending: bool,
    /// Nulls before everything else?
    pub nulls_first: bool,
    /// Can the value be null?
    pub nullable: bool,
}

/// Which of the rows a select delivers.
#[derive(Debug)]
pub enum RowSet {
    /// At most one row.
    Single,
    /// Rows that a change gives: no statement reads them.
    Supplied,
    /// All rows as one row of summaries.
    Aggregate,
    /// One row of summaries per group.
    Groups {
        /// What makes a group.
        by: Vec<GroupTerm>,
        /// The order, ending with the groups' own values.
        order: Vec<GroupOrder>,
        /// The parameter that holds how many groups at most.
        size: usize,
        /// The parameter that holds the number of groups to pass over.
        skip: Option<usize>,
    },
    /// A page of a list.
    Page {
        /// The parameter that holds the page's size.
        size: usize,
        /// From the end backward?
        backward: bool,
        /// The parameter that holds the number of rows to pass over.
        skip: Option<usize>,
        /// Only rows after this position.
        after: Option<Seek>,
        /// Only rows before this position.
        before: Option<Seek>,
    },
}

/// A position in an order.
#[derive(Debug, Clone)]
pub struct Seek {
    /// The parameter that holds the position's value, per order term.
    pub parameters: Vec<usize>,
    /// Which of the values are null.
    pub nulls: Vec<bool>,
}

/// A value that is bound per request.
#[derive(Debug, Clone)]
enum Parameter {
    /// A value that the view's rules take from the claims.
    Claim(usize),
    /// The same for every request: a literal of the document.
    Constant(Datum),
    /// A leaf of a variable.
    Leaf { source: VariablePath, leaf: LeafType },
    /// A list of leaves.
    List { items: ListSource, leaf: LeafType },
    /// A page size from a variable.
    PageSize { source: VariablePath, argument: &'static str, most: u32, location: Option<Location> },
    /// A number of rows to pass over, from a variable.
    Skip { source: VariablePath, location: Option<Location> },
    /// What a key query finds.
    Keys(usize),
    /// One value of a cursor's position.
    CursorDatum { cursor: usize, index: usize },
}

/// Where the values of a list come from.
#[derive(Debug, Clone)]
enum ListSource {
    /// A variable that is the list.
    Variable(VariablePath),
    /// A list in the document whose items are parameters of their own.
    Items(Vec<usize>),
}

/// How a leaf value is turned into a cell.
#[derive(Debug, Clone, Copy)]
struct LeafType {
    kind: crate::model::FieldType,
    form: StorageFormat,
}

/// A cursor given as an argument, or a global id.
#[derive(Debug, Clone)]
struct CursorArgument {
    /// Is it a global id?
    is_id: bool,
    source: CursorSource,
    binding: [u8; cursor::BINDING_LENGTH],
    argument: &'static str,
    location: Option<Location>,
    terms: usize,
}

#[derive(Debug, Clone)]
enum CursorSource {
    Literal(String),
    Variable(VariablePath),
}

impl Plan {
    /// About how many bytes an answer takes.
    pub fn usual_bytes(&self) -> usize {
        self.usual_bytes.load(Ordering::Relaxed)
    }

    /// Remembers how many bytes an answer took.
    pub fn took_bytes(&self, bytes: usize) {
        // A little more, so that the next one need not grow.
        self.usual_bytes.store(bytes + bytes / 16 + 64, Ordering::Relaxed);
    }

    /// Does it answer anything of introspection? That takes time, and needs no source.
    pub fn introspects(&self) -> bool {
        self.introspection.is_some()
    }

    /// The shape of the answer.
    pub fn roots(&self) -> &ObjectShape {
        &self.roots
    }

    /// The select nodes; parents come before their children.
    pub fn selects(&self) -> &[Select] {
        &self.selects
    }

    /// The sources whose rows it reads, in their order.
    pub fn sources(&self) -> &[SourceId] {
        &self.sources
    }

    /// Does it read rows of several sources? Then each is read level by level.
    pub fn is_split(&self) -> bool {
        self.sources.len() > 1
    }

    /// The source of a select's rows.
    pub fn source_of(&self, select: SelectId) -> SourceId {
        self.model.types[self.selects[select].of].source
    }

    /// Does a select hang on rows of another source?
    pub fn crosses(&self, select: SelectId) -> bool {
        let parent = self.selects[select].parent.as_ref();
        parent.is_some_and(|parent| self.source_of(parent.select) != self.source_of(select))
    }

    /// Does a select hang on rows of another source, or on rows that do?
    pub fn is_beyond_crossing(&self, select: SelectId) -> bool {
        let parent = self.selects[select].parent.as_ref();
        parent.is_some_and(|parent| self.crosses(select) || self.is_beyond_crossing(parent.select))
    }

    /// What other sources are asked for on behalf of filters, those first that others need.
    pub fn key_queries(&self) -> &[KeyQuery] {
        &self.key_queries
    }

    /// The value of a parameter that is the same whole number for every request.
    pub fn constant(&self, parameter: usize) -> Option<i64> {
        match self.parameters.get(parameter) {
            Some(Parameter::Constant(Datum::Integer(value))) => Some(*value),
            _ => None,
        }
    }

    /// The selects that hang on one and are read, in the order in which its rows carry them.
    pub fn children(&self, select: SelectId) -> impl Iterator<Item = SelectId> {
        self.selects.iter().enumerate().filter_map(move |(id, child)| {
            child.parent.as_ref().filter(|parent| child.read && parent.select == select).map(|_| id)
        })
    }

    /// Is a select joined to its parent's rows?
    pub fn is_joined(&self, select: SelectId) -> bool {
        self.layout.is_joined(select)
    }

    /// Does a select run by a statement of its own, where the request is not one statement as a whole?
    pub fn runs(&self, select: SelectId) -> bool {
        let select_of = &self.selects[select];
        select_of.read && !self.is_joined(select) && !matches!(select_of.row_set, RowSet::Supplied)
    }

    /// How many fields a select's row has: its outputs, and those of its joined children. At least one.
    pub fn row_width(&self, select: SelectId) -> usize {
        self.layout.fields(select).max(1)
    }

    /// Has a select's row any field? Where it has none, one cell stands for the row, so that it can be counted.
    pub fn has_fields(&self, select: SelectId) -> bool {
        self.layout.fields(select) > 0
    }

    /// Where in its parent's row the fields of a joined child begin.
    pub fn first_field(&self, child: SelectId) -> usize {
        self.layout.first(child)
    }

    /// Which field of its parent's row is null exactly where a joined child is not there.
    pub fn presence_field(&self, child: SelectId) -> usize {
        self.layout.presence_column(child)
    }

    /// The scalar of every field of a select's rows; none for marks, counts and what is not a scalar.
    pub fn scalars(&self, select: SelectId) -> Vec<Option<Scalar>> {
        let node = &self.selects[select];
        let mut scalars: Vec<Option<Scalar>> =
            (0..node.output.len()).map(|output| node.scalar(&self.model, output)).collect();
        for child in self.children(select).filter(|child| self.is_joined(*child)) {
            scalars.extend(presence_column(&self.model, &self.selects[child]).is_none().then_some(None));
            scalars.extend(self.scalars(child));
        }
        if scalars.is_empty() && !self.is_joined(select) {
            // A row has at least one cell, so that it can be counted.
            scalars.push(None);
        }
        scalars
    }

    /// The model that the plan was made of.
    pub fn model(&self) -> &crate::model::Model {
        &self.model
    }

    /// What seals this plan's cursors.
    pub fn sealer(&self) -> &Sealer {
        &self.sealer
    }

    /// About how many bytes the plan holds in memory, for the cache.
    pub fn weight(&self) -> usize {
        const PER_SELECT: usize = 2_000;
        let selects: usize = self.selects.iter().map(Select::weight).sum();
        let parameters: usize = self.parameters.iter().map(Parameter::weight).sum();
        let cursors: usize = self.cursors.iter().map(CursorArgument::weight).sum();
        let introspection = self.introspection.as_ref().map_or(0, Introspection::weight);
        introspection + PER_SELECT * self.selects.len() + selects + parameters + cursors + self.roots.weight()
    }
}

impl Select {
    fn weight(&self) -> usize {
        let predicates: usize = self
            .predicates
            .iter()
            .filter(|predicate| predicate.origin == Origin::Caller)
            .map(|predicate| predicate.condition.weight())
            .sum();
        let terms = self.order.len() * std::mem::size_of::<OrderTerm>();
        let hops: usize = self.order.iter().map(|term| term.path.hops.len() * std::mem::size_of::<Hop>()).sum();
        let items: usize = self.filtered_items.iter().map(FilteredItems::weight).sum();
        self.output.capacity() * std::mem::size_of::<Output>() + predicates + terms + hops + items
    }
}

impl Parameter {
    fn weight(&self) -> usize {
        let below = match self {
            Parameter::Claim(_) | Parameter::Keys(_) | Parameter::CursorDatum { .. } => 0,
            Parameter::Constant(cell) => cell.weight(),
            Parameter::Leaf { source, .. }
            | Parameter::PageSize { source, .. }
            | Parameter::Skip { source, .. }
            | Parameter::List { items: ListSource::Variable(source), .. } => source.weight(),
            Parameter::List { items: ListSource::Items(items), .. } => items.len() * std::mem::size_of::<usize>(),
        };
        std::mem::size_of::<Parameter>() + below
    }
}

impl CursorArgument {
    fn weight(&self) -> usize {
        let below = match &self.source {
            CursorSource::Literal(text) => text.len(),
            CursorSource::Variable(path) => path.weight(),
        };
        std::mem::size_of::<CursorArgument>() + below
    }
}
