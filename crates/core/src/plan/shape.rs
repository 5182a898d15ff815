//! The shape of an answer: which keys come in which order, and where in a select's rows their values are.

use std::sync::Arc;

use super::SelectId;
use crate::error::Location;
use crate::model::{FieldType, IDENTITY_LENGTH};

/// The fields of an object, in the order of the answer.
#[derive(Debug, Default)]
pub struct ObjectShape {
    /// The fields.
    pub fields: Vec<FieldShape>,
}

/// One field of an object.
#[derive(Debug)]
pub struct FieldShape {
    /// The response key.
    pub key: String,
    /// The key as it is written: quoted, with its colon.
    pub written_key: Vec<u8>,
    /// Where the document asks for it.
    pub location: Option<Location>,
    /// What it holds.
    pub value: Value,
}

/// What a field holds.
#[derive(Debug)]
pub enum Value {
    /// The name of the type.
    Typename(String),
    /// Always null.
    Null,
    /// A value of the row.
    Column {
        /// Which output of the select.
        output: usize,
        /// Its type.
        kind: FieldType,
        /// Is it delivered as it is written in JSON?
        is_json: bool,
        /// Is null impossible?
        non_null: bool,
        /// `Type.field`, for errors.
        name: Arc<str>,
    },
    /// An object inside the row's JSON.
    Object {
        /// Which output of the select tells whether it is one.
        output: usize,
        /// Is null impossible?
        non_null: bool,
        /// `Type.field`, for errors.
        name: Arc<str>,
        /// Its members, which are values of the same row.
        object: ObjectShape,
    },
    /// An object that is a column's JSON, delivered as it is written.
    WholeObject {
        /// Which output of the select.
        output: usize,
        /// Is null impossible?
        non_null: bool,
        /// `Type.field`, for errors.
        name: Arc<str>,
        /// What is answered of it.
        item: ItemShape,
    },
    /// A list of objects inside the row's JSON.
    Items(ItemsShape),
    /// The same where its items are rows of another select, because links start from them.
    ItemRows(ItemRowsShape),
    /// At most one row of another select.
    One {
        /// The select.
        select: SelectId,
        /// `Type.field`, for the error where there is none although there always is one; absent, there may be none.
        present: Option<Arc<str>>,
        /// Its fields.
        object: ObjectShape,
    },
    /// A page of another select.
    Connection(ConnectionShape),
    /// An object of values of the same row.
    NestedObject(ObjectShape),
    /// What introspection answers under this key.
    Introspection,
    /// A tag of the row's present state.
    Revision {
        /// The type's name.
        of: String,
        /// The outputs that make it.
        outputs: Vec<usize>,
    },
    /// A row's global id.
    GlobalId {
        /// What tells the row's type.
        identity: [u8; IDENTITY_LENGTH],
        /// The outputs of its key.
        outputs: Vec<usize>,
    },
    /// Rows that global ids mean.
    Nodes(NodesShape),
    /// What a change answers.
    Change(ChangeShape),
}

/// Rows that global ids mean, each or null, in the order of the ids.
#[derive(Debug)]
pub struct NodesShape {
    /// The rows, read once for each type.
    pub rows: Vec<NodeRows>,
    /// The ids; none where the role sees no rows of the id's type.
    pub ids: Vec<Option<NodeId>>,
}

/// The rows of one type that global ids mean.
#[derive(Debug)]
pub struct NodeRows {
    /// The select that reads them all.
    pub select: SelectId,
    /// The outputs of their key.
    pub key: Vec<usize>,
    /// Their fields.
    pub object: ObjectShape,
}

/// A global id.
#[derive(Debug)]
pub struct NodeId {
    /// Among which of the rows it is.
    pub rows: usize,
    /// The parameters that hold its key.
    pub key: Vec<usize>,
}

/// A list of objects inside a row's JSON, delivered as it is written there.
#[derive(Debug)]
pub struct ItemsShape {
    /// Which output of the select.
    pub output: usize,
    /// Is null impossible?
    pub non_null: bool,
    /// `Type.field`, for errors.
    pub name: Arc<str>,
    /// What is answered of it.
    pub list: ListShape,
}

/// A list of objects inside a row's JSON whose items are rows.
#[derive(Debug)]
pub struct ItemRowsShape {
    /// Which output of the row's select tells whether it is a list.
    pub output: usize,
    /// Is null impossible?
    pub non_null: bool,
    /// `Type.field`, for errors.
    pub name: Arc<str>,
    /// The select whose rows are the items; its first output tells whether an item is an object.
    pub select: SelectId,
    /// The fields of an item.
    pub object: ObjectShape,
}

/// What is answered of a list of objects that is written as JSON.
#[derive(Debug)]
pub struct ListShape {
    /// The parameter that holds how many items at most; absent, all.
    pub first: Option<usize>,
    /// The parameter that holds the number of items to pass over.
    pub skip: Option<usize>,
    /// What is answered of each.
    pub item: ItemShape,
    /// Lists inside the items that come beside each of them, because not every item of theirs is delivered
    /// ([`FilteredItems::beside`](super::FilteredItems)).
    pub beside: Vec<ListShape>,
}

/// What is answered of an object that is written as JSON.
#[derive(Debug, Default)]
pub struct ItemShape {
    /// Its fields, in the order of the answer.
    pub fields: Vec<(FieldHead, ItemField)>,
    /// Is a member among them more than once, under several keys?
    pub repeats: bool,
}

/// A field of such an object.
#[derive(Debug)]
pub enum ItemField {
    /// A member.
    Member {
        /// Its name in the JSON.
        member: String,
        /// Is null impossible?
        non_null: bool,
        /// `Type.field`, for errors.
        name: Arc<str>,
        /// What it holds.
        value: ItemValue,
    },
    /// `__typename`
    Typename(String),
}

/// What a member holds.
#[derive(Debug)]
pub enum ItemValue {
    /// A value, or a list of values.
    Leaf(FieldType),
    /// An object.
    Object(ItemShape),
    /// A list of objects.
    Items(ListShape),
    /// A list of objects that comes beside the item, by its number among [`ListShape::beside`].
    Beside(usize),
}

/// What a change answers.
#[derive(Debug)]
pub struct ChangeShape {
    /// The fields.
    pub fields: Vec<(FieldHead, ChangeField)>,
}

/// A field of what a change answers.
#[derive(Debug)]
pub enum ChangeField {
    /// `count`: how many rows were addressed.
    Count,
    /// `node`: the row, where it can be read.
    Node {
        /// The select that finds it by its key.
        select: SelectId,
        /// Its fields.
        object: ObjectShape,
    },
    /// `nodes`: those of the rows that can be read.
    Nodes {
        /// The select that finds them by their keys.
        select: SelectId,
        /// Their fields.
        object: ObjectShape,
    },
    /// `__typename`
    Typename(String),
}

/// A page of rows.
#[derive(Debug)]
pub struct ConnectionShape {
    /// The select of the rows.
    pub select: SelectId,
    /// Is it null where its source is away?
    pub nullable: bool,
    /// Does the answer need the rows at all?
    pub reads_rows: bool,
    /// The fields of the connection.
    pub fields: Vec<(FieldHead, ConnectionField)>,
    /// The outputs that make up a cursor; empty where none is asked for.
    pub cursor: Vec<usize>,
    /// What a cursor is bound to.
    pub binding: [u8; super::cursor::BINDING_LENGTH],
}

/// A response key and its place, for objects that are not rows.
#[derive(Debug)]
pub struct FieldHead {
    /// The response key.
    pub key: String,
    /// The key as it is written.
    pub written_key: Vec<u8>,
    /// Where the document asks for it.
    pub location: Option<Location>,
}

/// A field of a connection.
#[derive(Debug)]
pub enum ConnectionField {
    /// `nodes`
    Nodes(ObjectShape),
    /// `edges`
    Edges(EdgeShape),
    /// `pageInfo`
    PageInfo(PageInfoShape),
    /// `totalCount`: an output of the select that sums up all rows.
    TotalCount {
        /// The select.
        select: SelectId,
        /// Which of its outputs.
        output: usize,
    },
    /// `summary`: the one row of the select that sums up all rows; no row at all where that is not read, for nothing of it is
    /// asked.
    Summary {
        /// The select.
        select: SelectId,
        /// Its fields.
        object: ObjectShape,
    },
    /// `groups`: the rows of a select that sums up by group.
    Groups {
        /// The select.
        select: SelectId,
        /// Their fields.
        object: ObjectShape,
    },
    /// `__typename`
    Typename(String),
}

/// The fields of an edge.
#[derive(Debug)]
pub struct EdgeShape {
    /// The fields.
    pub fields: Vec<(FieldHead, EdgeField)>,
}

/// A field of an edge.
#[derive(Debug)]
pub enum EdgeField {
    /// `cursor`
    Cursor,
    /// `node`
    Node(ObjectShape),
    /// A column of the join table, or the type's name.
    Value(Value),
}

/// The fields of a `pageInfo`.
#[derive(Debug)]
pub struct PageInfoShape {
    /// The fields.
    pub fields: Vec<(FieldHead, PageInfoField)>,
}

/// A field of a `pageInfo`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PageInfoField {
    /// `hasNextPage`
    HasNextPage,
    /// `hasPreviousPage`
    HasPreviousPage,
    /// `startCursor`
    StartCursor,
    /// `endCursor`
    EndCursor,
    /// `__typename`
    Typename,
}

impl FieldHead {
    /// The head of a field with this response key.
    pub fn new(key: &str, location: Option<Location>) -> Self {
        let mut written_key = serde_json::to_vec(key).expect("text is a JSON string");
        written_key.push(b':');
        FieldHead { key: key.to_owned(), written_key, location }
    }
}

impl FieldShape {
    /// A field of an object.
    pub fn new(key: &str, location: Option<Location>, value: Value) -> Self {
        let FieldHead { key, written_key, location } = FieldHead::new(key, location);
        FieldShape { key, written_key, location, value }
    }
}

/// What a field takes beside its keys.
const PER_FIELD: usize = 200;

impl ObjectShape {
    /// About how many bytes it holds in memory.
    pub(super) fn weight(&self) -> usize {
        let field = |field: &FieldShape| PER_FIELD + field.key.len() + field.written_key.len() + field.value.weight();
        self.fields.iter().map(field).sum()
    }
}

impl Value {
    fn weight(&self) -> usize {
        match self {
            Value::One { object, .. } | Value::NestedObject(object) | Value::Object { object, .. } => object.weight(),
            Value::Nodes(nodes) => {
                let rows: usize = nodes.rows.iter().map(|rows| PER_FIELD + rows.object.weight()).sum();
                rows + nodes.ids.len() * PER_FIELD
            }
            Value::GlobalId { outputs, .. } => outputs.len() * std::mem::size_of::<usize>(),
            Value::Items(items) => items.list.weight(),
            Value::ItemRows(items) => items.object.weight(),
            Value::WholeObject { item, .. } => item.weight(),
            Value::Connection(connection) => connection.weight(),
            Value::Typename(name) => name.len(),
            Value::Column { name, .. } => name.len(),
            Value::Revision { of, outputs } => of.len() + outputs.len() * std::mem::size_of::<usize>(),
            // A change's answer is not kept.
            Value::Null | Value::Introspection | Value::Change(_) => 0,
        }
    }
}

impl ListShape {
    fn weight(&self) -> usize {
        self.item.weight() + self.beside.iter().map(ListShape::weight).sum::<usize>()
    }
}

impl ItemShape {
    fn weight(&self) -> usize {
        let below = |field: &ItemField| match field {
            ItemField::Typename(name) => name.len(),
            ItemField::Member { member, value: ItemValue::Leaf(_) | ItemValue::Beside(_), .. } => member.len(),
            ItemField::Member { value: ItemValue::Object(item), .. } => item.weight(),
            ItemField::Member { value: ItemValue::Items(list), .. } => list.weight(),
        };
        self.fields.iter().map(|(head, field)| head.weight() + below(field)).sum()
    }
}

impl FieldHead {
    fn weight(&self) -> usize {
        PER_FIELD + self.key.len() + self.written_key.len()
    }
}

impl ConnectionShape {
    fn weight(&self) -> usize {
        let below = |field: &ConnectionField| match field {
            ConnectionField::Nodes(object)
            | ConnectionField::Summary { object, .. }
            | ConnectionField::Groups { object, .. } => object.weight(),
            ConnectionField::Edges(edge) => {
                edge.fields.iter().map(|(head, field)| head.weight() + field.weight()).sum()
            }
            ConnectionField::PageInfo(info) => info.fields.iter().map(|(head, _)| head.weight()).sum(),
            ConnectionField::Typename(name) => name.len(),
            ConnectionField::TotalCount { .. } => 0,
        };
        self.fields.iter().map(|(head, field)| head.weight() + below(field)).sum()
    }
}

impl EdgeField {
    fn weight(&self) -> usize {
        match self {
            EdgeField::Cursor => 0,
            EdgeField::Node(object) => object.weight(),
            EdgeField::Value(value) => value.weight(),
        }
    }
}
