//! The writer: walks the shape, fetches rows, writes JSON.

use std::collections::HashMap;

use crate::error::{Code, Location, MOST_PROBLEMS, PathStep, Problem};
use crate::model::{Element, Enum, FieldType};
use crate::plan::change::{COUNT, GIVEN};
use crate::plan::{
    BoundPlan, ChangeField, ChangeShape, ConnectionField, ConnectionShape, EdgeField, EdgeShape, FieldHead, NodeId,
    NodeRows, NodesShape, ObjectShape, Output, PageInfoField, PageInfoShape, Plan, RowSet, Select, SelectId, Value,
};
use crate::rows::{Row, Rows, too_large};
use crate::value::{
    CoercionError, DatumRef, make_room, push_item, write_list, write_plain, write_scalar, write_string,
};
use places::{Place, WalkBudget};

mod json;
mod places;

/// What a source gives to the writer. `'s` is how long it keeps the bytes that its rows borrow.
pub trait Fetch<'s> {
    /// Fills `into` with the rows of a select for one parent's row, or of a root select; never asked for one that is
    /// joined to its parent's rows. Their first cells are the select's fields; the source may add cells of its own, which it
    /// finds again at the end of `parent`.
    ///
    /// # Errors
    /// What went wrong with the source; the whole answer fails with it.
    fn fetch(&mut self, select: SelectId, parent: Option<Row<'_, 's>>, into: &mut Rows<'s>) -> Result<(), Problem>;
}

/// A written answer.
#[derive(Debug)]
pub struct Answer {
    /// The response's body up to its member `data`, whole; what else belongs to it follows, and the closing brace.
    pub body: Vec<u8>,
    /// Errors on single fields.
    pub problems: Vec<Problem>,
}

impl Answer {
    /// The JSON of `data` alone.
    pub fn data(&self) -> &[u8] {
        &self.body[HEAD.len()..]
    }
}

/// What a response's body begins with.
const HEAD: &[u8] = b"{\"data\":";

/// Writes the answer of a bound plan.
///
/// # Errors
/// What the source reports, or `TOO_COSTLY` where the answer grows over `most_bytes`.
pub fn write<'s>(bound: &BoundPlan, fetch: &mut dyn Fetch<'s>, most_bytes: usize) -> Result<Answer, Problem> {
    let plan = bound.plan();
    let mut writer = Writer {
        bound,
        fetch,
        most_bytes,
        out: Vec::with_capacity(plan.usual_bytes()),
        problems: Vec::new(),
        problem_bytes: 0,
        path: Vec::new(),
        location: None,
        rows: plan.selects().iter().map(|_| Rows::default()).collect(),
        places: Vec::new(),
        walks: WalkBudget::new(most_bytes),
    };
    writer.out.extend_from_slice(HEAD);
    match writer.nullable(|writer| writer.object(plan.roots(), None)) {
        Ok(()) | Err(Stop::Null) => {}
        Err(Stop::Failed(problem)) => return Err(*problem),
    }
    plan.took_bytes(writer.out.len());
    Ok(Answer { body: writer.out, problems: writer.problems })
}

/// Why writing of a value stopped.
enum Stop {
    /// An error on a non-null field: null goes to the nearest nullable position. The problem is recorded already.
    Null,
    /// The whole answer fails.
    Failed(Box<Problem>),
}

impl From<Problem> for Stop {
    fn from(problem: Problem) -> Self {
        Stop::Failed(Box::new(problem))
    }
}

/// The values of a key, to be told apart by their bytes.
fn written_key<'v>(cells: impl Iterator<Item = DatumRef<'v>>) -> Vec<u8> {
    let mut bytes = Vec::new();
    cells.for_each(|cell| push_item(&mut bytes, cell));
    bytes
}

/// A joined child's row as a part of its parent's; none where there is none.
pub fn joined_row<'r, 's>(plan: &Plan, child: SelectId, parent: Row<'r, 's>) -> Option<Row<'r, 's>> {
    let is_there = !parent.cell(plan.presence_field(child)).is_null();
    is_there.then(|| parent.part(plan.first_field(child)))
}

/// Fills `rows` with what there is where no row of a select's parent can have children: nothing, or a summary of nothing.
pub fn nothing(select: &Select, rows: &mut Rows<'_>) {
    rows.clear(select.output.len().max(1));
    if matches!(select.row_set, RowSet::Aggregate) {
        for output in &select.output {
            rows.push(if *output == Output::Count { DatumRef::Integer(0) } else { DatumRef::Null });
        }
    }
}

struct Writer<'a, 's> {
    bound: &'a BoundPlan,
    fetch: &'a mut dyn Fetch<'s>,
    most_bytes: usize,
    out: Vec<u8>,
    problems: Vec<Problem>,
    /// About how many bytes they add to the answer.
    problem_bytes: usize,
    path: Vec<Step<'a>>,
    /// Where the document asks for the rows that are being written.
    location: Option<Location>,
    /// Rows per select. Taken out while they are walked, put back after.
    rows: Vec<Rows<'s>>,
    /// Where the parts of a row's JSON are. Taken out while they are written, put back after.
    places: Vec<Place>,
    /// How much JSON may still be gone over.
    walks: WalkBudget,
}

/// One step of the path to what is being written.
#[derive(Clone, Copy)]
enum Step<'a> {
    Key(&'a str),
    Index(usize),
}

impl From<Step<'_>> for PathStep {
    fn from(step: Step<'_>) -> Self {
        match step {
            Step::Key(key) => PathStep::Key(key.to_owned()),
            Step::Index(index) => PathStep::Index(index),
        }
    }
}

/// The row that an object is written from.
#[derive(Clone, Copy)]
struct Origin<'r, 's> {
    select: SelectId,
    row: Row<'r, 's>,
}

impl<'a, 's> Writer<'a, 's> {
    /// Writes a value at a nullable position: on an error in it, null.
    fn nullable(&mut self, write: impl FnOnce(&mut Self) -> Result<(), Stop>) -> Result<(), Stop> {
        let mark = self.out.len();
        match write(self) {
            Err(Stop::Null) => {
                self.out.truncate(mark);
                self.out.extend_from_slice(b"null");
                Ok(())
            }
            other => other,
        }
    }

    /// Writes a value at a position that is nullable, unless it is not.
    fn unless(&mut self, non_null: bool, write: impl FnOnce(&mut Self) -> Result<(), Stop>) -> Result<(), Stop> {
        if non_null { write(self) } else { self.nullable(write) }
    }

    fn at<T>(&mut self, step: Step<'a>, write: impl FnOnce(&mut Self) -> Result<T, Stop>) -> Result<T, Stop> {
        self.path.push(step);
        let result = write(self);
        self.path.pop();
        result
    }

    /// Writes the members of an object between braces.
    fn members<T>(
        &mut self,
        members: &'a [T],
        mut write: impl FnMut(&mut Self, &'a T) -> Result<(), Stop>,
    ) -> Result<(), Stop> {
        self.out.push(b'{');
        for (at, member) in members.iter().enumerate() {
            if at > 0 {
                self.out.push(b',');
            }
            write(self, member)?;
            self.check_size()?;
        }
        self.out.push(b'}');
        Ok(())
    }

    /// Is there still room? Asked after every member of every object: what one value adds is bounded by what its row holds.
    fn check_size(&mut self) -> Result<(), Stop> {
        make_room(&mut self.out);
        if self.out.len() + self.problem_bytes <= self.most_bytes {
            return Ok(());
        }
        Err(too_large(self.most_bytes).into())
    }

    fn object(&mut self, shape: &'a ObjectShape, from: Option<Origin<'_, 's>>) -> Result<(), Stop> {
        self.members(&shape.fields, |writer, field| {
            writer.out.extend_from_slice(&field.written_key);
            writer.value(&field.value, &field.key, field.location, from)
        })
    }

    fn value(
        &mut self,
        value: &'a Value,
        key: &'a str,
        location: Option<Location>,
        from: Option<Origin<'_, 's>>,
    ) -> Result<(), Stop> {
        match value {
            Value::Typename(name) => write_plain(&mut self.out, name),
            Value::Null => self.out.extend_from_slice(b"null"),
            Value::NestedObject(object) => {
                return self.at(Step::Key(key), |writer| writer.object(object, from));
            }
            Value::Introspection => self.out.extend_from_slice(self.bound.introspection(key)),
            Value::Column { output, kind, is_json, non_null, name } => {
                let Some(from) = from else { return Ok(()) };
                let cell = from.row.cell(*output);
                let written = match (cell, is_json) {
                    (DatumRef::Text(json), true) => self.json_value(*kind, json),
                    _ => self.cell(*kind, cell),
                };
                let written = match written {
                    Ok(()) if *non_null && cell.is_null() => Err(CoercionError::new("a value", "null")),
                    written => written,
                };
                let Err(unfit) = written else { return Ok(()) };
                self.add_unfit(&unfit, name, *non_null, from, location, Some(Step::Key(key)));
                if *non_null {
                    return Err(Stop::Null);
                }
                self.out.extend_from_slice(b"null");
            }
            Value::Object { output, non_null, name, object } => {
                let Some(from) = from else { return Ok(()) };
                let write = |writer: &mut Self| writer.json_object((*output, *non_null, name, object), location, from);
                return self.at(Step::Key(key), |writer| writer.unless(*non_null, write));
            }
            Value::WholeObject { output, non_null, name, item } => {
                let Some(from) = from else { return Ok(()) };
                let write = |writer: &mut Self| writer.whole_object((*output, *non_null, name, item), location, from);
                return self.at(Step::Key(key), |writer| writer.unless(*non_null, write));
            }
            Value::Items(items) => {
                let Some(from) = from else { return Ok(()) };
                return self.json_items(items, key, location, from);
            }
            Value::ItemRows(items) => {
                let Some(from) = from else { return Ok(()) };
                self.location = location;
                return self.at(Step::Key(key), |writer| {
                    writer.unless(items.non_null, |writer| writer.item_rows(items, location, from))
                });
            }
            Value::Revision { of, outputs } => {
                let Some(from) = from else { return Ok(()) };
                let cells = outputs.iter().map(|output| from.row.cell(*output));
                let revision = self.bound.plan().sealer().revision(of, cells);
                write_plain(&mut self.out, &revision);
            }
            Value::GlobalId { identity, outputs } => {
                let Some(from) = from else { return Ok(()) };
                let cells = outputs.iter().map(|output| from.row.cell(*output));
                let id = self.bound.plan().sealer().seal_id(identity, cells);
                write_plain(&mut self.out, &id);
            }
            Value::Nodes(nodes) => {
                self.location = location;
                return self.at(Step::Key(key), |writer| writer.nodes(nodes));
            }
            Value::Change(change) => {
                return self.at(Step::Key(key), |writer| writer.change(change));
            }
            Value::One { select, present, object } => {
                self.location = location;
                return self.at(Step::Key(key), |writer| match present {
                    None => writer.nullable(|writer| writer.one(*select, None, object, from)),
                    Some(name) => writer.one(*select, Some(name), object, from),
                });
            }
            Value::Connection(connection) => {
                self.location = location;
                return self.at(Step::Key(key), |writer| {
                    if connection.nullable {
                        writer.nullable(|writer| writer.connection(connection, from))
                    } else {
                        writer.connection(connection, from)
                    }
                });
            }
        }
        Ok(())
    }

    fn cell(&mut self, kind: FieldType, cell: DatumRef<'_>) -> Result<(), CoercionError> {
        match kind {
            FieldType::Scalar(scalar) => write_scalar(&mut self.out, scalar, cell),
            FieldType::List(Element::Scalar(scalar)) => {
                write_list(&mut self.out, scalar.name(), cell, |out, item| write_scalar(out, scalar, item))
            }
            FieldType::Enum(id) => write_enum(&mut self.out, &self.bound.plan().model().enums[id], cell),
            FieldType::List(Element::Enum(id)) => {
                let e = &self.bound.plan().model().enums[id];
                write_list(&mut self.out, &e.name, cell, |out, item| write_enum(out, e, item))
            }
            FieldType::Object(_) | FieldType::Items(_) => Err(CoercionError::new("JSON", cell.describe())),
        }
    }

    /// Tells of a stored value that does not fit its field.
    fn add_unfit(
        &mut self,
        unfit: &CoercionError,
        name: &str,
        non_null: bool,
        from: Origin<'_, 's>,
        location: Option<Location>,
        last: Option<Step<'a>>,
    ) {
        if self.problems.len() < MOST_PROBLEMS {
            let remedy = if non_null {
                "correct the value, or list the column under `nullable` of its `[[type]]` in the project file"
            } else {
                "correct the value, or give the column another `scalar` in its `[[type]]` of the project file"
            };
            let row = self.describe_row(from);
            let text = format!("`{name}`{row} expects {}, found {}; {remedy}", unfit.expected, unfit.found);
            self.add_problem(Problem::new(Code::ValueUnfit, text).at(location), last);
        }
    }

    /// Adds an error on the field that is being written, or on one inside it.
    fn add_problem(&mut self, mut problem: Problem, last: Option<Step<'a>>) {
        if self.problems.len() >= MOST_PROBLEMS {
            return;
        }
        problem.path = self.path.iter().copied().chain(last).map(PathStep::from).collect();
        self.problem_bytes += problem.message.len() + problem.path.iter().map(PathStep::weight).sum::<usize>();
        self.problems.push(problem);
    }

    /// ` of the row with id 7`, where the row's key is among what was delivered and has fields.
    fn describe_row(&self, from: Origin<'_, 's>) -> String {
        let plan = self.bound.plan();
        let select = &plan.selects()[from.select];
        let t = &plan.model().types[select.of];
        let Some(key) = t.row_key() else { return String::new() };
        let mut parts = Vec::new();
        for column in &key.columns {
            let Some(field) = &t.columns[*column].field else { return String::new() };
            let Some(output) = select.output.iter().position(|o| *o == Output::Column(*column)) else {
                return String::new();
            };
            let value = match from.row.cell(output) {
                DatumRef::Integer(value) => value.to_string(),
                DatumRef::Text(text) => format!("{:?}", String::from_utf8_lossy(text)),
                other => other.describe().to_owned(),
            };
            parts.push(format!("{field} {value}"));
        }
        format!(" of the row with {}", parts.join(" and "))
    }

    /// Fetches the rows of a select, lets `write` use them, and keeps the memory for the next time.
    fn with_rows<T>(
        &mut self,
        select: SelectId,
        from: Option<Origin<'_, 's>>,
        write: impl FnOnce(&mut Self, &Rows<'s>) -> Result<T, Stop>,
    ) -> Result<T, Stop> {
        let mut rows = std::mem::take(&mut self.rows[select]);
        let result = match self.fetch.fetch(select, from.map(|from| from.row), &mut rows) {
            Ok(()) => write(self, &rows),
            // One of several sources could not be read: that is an error of its own fields.
            Err(problem) if self.bound.plan().is_split() => {
                let location = self.location.filter(|_| problem.locations.is_empty());
                self.add_problem(problem.at(location), None);
                Err(Stop::Null)
            }
            Err(problem) => Err(problem.into()),
        };
        self.rows[select] = rows;
        result
    }

    /// The rows that global ids mean, each or null.
    fn nodes(&mut self, nodes: &'a NodesShape) -> Result<(), Stop> {
        let mut found = Vec::with_capacity(nodes.rows.len());
        for of_type in &nodes.rows {
            let mut rows = std::mem::take(&mut self.rows[of_type.select]);
            let problem = self.fetch.fetch(of_type.select, None, &mut rows).err();
            match problem {
                // One of several sources could not be read: that is an error of its own rows.
                Some(problem) if self.bound.plan().is_split() => found.push(Err(problem)),
                Some(problem) => return Err(problem.into()),
                None => {
                    let key = |row: Row<'_, 's>| written_key(of_type.key.iter().map(|output| row.cell(*output)));
                    let places: HashMap<Vec<u8>, usize> = (0..rows.len()).map(|at| (key(rows.row(at)), at)).collect();
                    found.push(Ok((rows, places)));
                }
            }
        }
        self.out.push(b'[');
        for (at, id) in nodes.ids.iter().enumerate() {
            if at > 0 {
                self.out.push(b',');
            }
            let found = id.as_ref().map(|id| (id, &nodes.rows[id.rows], &found[id.rows]));
            self.at(Step::Index(at), |writer| {
                writer.nullable(|writer| match found {
                    Some((id, of_type, Ok((rows, places)))) => writer.node(id, of_type, rows, places),
                    Some((_, _, Err(problem))) => {
                        let location = writer.location.filter(|_| problem.locations.is_empty());
                        writer.add_problem(problem.clone().at(location), None);
                        Err(Stop::Null)
                    }
                    None => Err(Stop::Null),
                })
            })?;
            self.check_size()?;
        }
        self.out.push(b']');
        for (of_type, found) in nodes.rows.iter().zip(found) {
            if let Ok((rows, _)) = found {
                self.rows[of_type.select] = rows;
            }
        }
        Ok(())
    }

    fn node(
        &mut self,
        id: &NodeId,
        of_type: &'a NodeRows,
        rows: &Rows<'s>,
        places: &HashMap<Vec<u8>, usize>,
    ) -> Result<(), Stop> {
        let key = written_key(id.key.iter().map(|parameter| self.bound.value(*parameter).as_ref()));
        let at = places.get(&key).ok_or(Stop::Null)?;
        self.object(&of_type.object, Some(Origin { select: of_type.select, row: rows.row(*at) }))
    }

    /// At most one row; exactly one, where its field is named.
    fn one(
        &mut self,
        select: SelectId,
        present: Option<&str>,
        object: &'a ObjectShape,
        from: Option<Origin<'_, 's>>,
    ) -> Result<(), Stop> {
        if let Some(Origin { row, .. }) = from.filter(|_| self.bound.plan().is_joined(select)) {
            return match joined_row(self.bound.plan(), select, row) {
                Some(row) => self.object(object, Some(Origin { select, row })),
                None => self.nobody(present, from),
            };
        }
        self.with_rows(select, from, |writer, rows| {
            if rows.is_empty() {
                return writer.nobody(present, from);
            }
            writer.object(object, Some(Origin { select, row: rows.row(0) }))
        })
    }

    /// Null for a row that is not there; an error where the database promised that it is.
    fn nobody(&mut self, present: Option<&str>, from: Option<Origin<'_, 's>>) -> Result<(), Stop> {
        let Some(name) = present else {
            self.out.extend_from_slice(b"null");
            return Ok(());
        };
        let row = from.map_or_else(String::new, |from| self.describe_row(from));
        let text = format!(
            "`{name}`{row} expects a row, found none, though the foreign key promises one; correct the rows, or list the key's \
             columns under `nullable` of their `[[type]]` in the project file"
        );
        self.add_problem(Problem::new(Code::ValueUnfit, text).at(self.location), None);
        Err(Stop::Null)
    }

    /// What a change answers: the rows that it gives are those of [`GIVEN`], their number is in [`COUNT`].
    fn change(&mut self, change: &'a ChangeShape) -> Result<(), Stop> {
        self.members(&change.fields, |writer, (head, field)| {
            writer.out.extend_from_slice(&head.written_key);
            writer.at(Step::Key(&head.key), |writer| match field {
                ChangeField::Count => writer.total_count(COUNT, 0, None, head),
                ChangeField::Typename(name) => {
                    write_plain(&mut writer.out, name);
                    Ok(())
                }
                ChangeField::Node { select, object } => writer.nullable(|writer| {
                    writer.with_rows(GIVEN, None, |writer, rows| {
                        if rows.is_empty() {
                            writer.out.extend_from_slice(b"null");
                            return Ok(());
                        }
                        writer.one(*select, None, object, Some(Origin { select: GIVEN, row: rows.row(0) }))
                    })
                }),
                ChangeField::Nodes { select, object } => writer.changed_rows(*select, object),
            })
        })
    }

    /// Those of the changed rows that can be read.
    fn changed_rows(&mut self, select: SelectId, object: &'a ObjectShape) -> Result<(), Stop> {
        self.with_rows(GIVEN, None, |writer, given| {
            writer.out.push(b'[');
            let mut written = 0;
            for at in 0..given.len() {
                let from = Origin { select: GIVEN, row: given.row(at) };
                writer.with_rows(select, Some(from), |writer, rows| {
                    if rows.is_empty() {
                        return Ok(());
                    }
                    if written > 0 {
                        writer.out.push(b',');
                    }
                    written += 1;
                    let from = Origin { select, row: rows.row(0) };
                    writer.at(Step::Index(written - 1), |writer| writer.object(object, Some(from)))
                })?;
            }
            writer.out.push(b']');
            Ok(())
        })
    }

    fn connection(&mut self, connection: &'a ConnectionShape, from: Option<Origin<'_, 's>>) -> Result<(), Stop> {
        if !connection.reads_rows {
            let page = PageOf { connection, rows: &Rows::default(), length: 0, backward: false, more: false };
            return self.connection_fields(connection, &page, from);
        }
        self.with_rows(connection.select, from, |writer, rows| {
            let RowSet::Page { size, backward, .. } = &writer.bound.plan().selects()[connection.select].row_set else {
                return Err(Problem::new(Code::Internal, "a connection's select has no page").into());
            };
            let size = usize::try_from(writer.bound.integer(*size)).unwrap_or(0);
            let more = rows.len() > size;
            let page = PageOf { connection, rows, length: rows.len().min(size), backward: *backward, more };
            writer.connection_fields(connection, &page, from)
        })
    }

    fn connection_fields(
        &mut self,
        connection: &'a ConnectionShape,
        page: &PageOf<'a, '_, 's>,
        from: Option<Origin<'_, 's>>,
    ) -> Result<(), Stop> {
        self.members(&connection.fields, |writer, (head, field)| {
            writer.out.extend_from_slice(&head.written_key);
            writer.location = head.location;
            writer.at(Step::Key(&head.key), |writer| match field {
                ConnectionField::Nodes(object) => writer.list(page, |writer, from| writer.object(object, Some(from))),
                ConnectionField::Edges(edge) => writer.list(page, |writer, from| writer.edge(edge, page, from)),
                ConnectionField::PageInfo(info) => writer.page_info(info, page),
                ConnectionField::TotalCount { select, output } => writer.total_count(*select, *output, from, head),
                ConnectionField::Summary { object, select } if !writer.bound.plan().selects()[*select].read => {
                    writer.object(object, None)
                }
                ConnectionField::Summary { select, object } => writer.one(*select, None, object, from),
                ConnectionField::Groups { select, object } => writer.groups(*select, object, from),
                ConnectionField::Typename(name) => {
                    write_string(&mut writer.out, name);
                    Ok(())
                }
            })
        })
    }

    fn list(
        &mut self,
        page: &PageOf<'a, '_, 's>,
        mut write: impl FnMut(&mut Self, Origin<'_, 's>) -> Result<(), Stop>,
    ) -> Result<(), Stop> {
        self.out.push(b'[');
        for at in 0..page.length {
            if at > 0 {
                self.out.push(b',');
            }
            let from = Origin { select: page.connection.select, row: page.row(at) };
            self.at(Step::Index(at), |writer| write(writer, from))?;
        }
        self.out.push(b']');
        Ok(())
    }

    fn edge(&mut self, edge: &'a EdgeShape, page: &PageOf<'a, '_, 's>, from: Origin<'_, 's>) -> Result<(), Stop> {
        self.members(&edge.fields, |writer, (head, field)| {
            writer.out.extend_from_slice(&head.written_key);
            match field {
                EdgeField::Cursor => {
                    let cursor = writer.cursor(page.connection, from.row);
                    write_plain(&mut writer.out, &cursor);
                    Ok(())
                }
                EdgeField::Node(object) => writer.at(Step::Key(&head.key), |writer| writer.object(object, Some(from))),
                EdgeField::Value(value) => writer.value(value, &head.key, head.location, Some(from)),
            }
        })
    }

    fn page_info(&mut self, info: &'a PageInfoShape, page: &PageOf<'a, '_, 's>) -> Result<(), Stop> {
        let RowSet::Page { backward, skip, after, before, .. } =
            &self.bound.plan().selects()[page.connection.select].row_set
        else {
            return Err(Problem::new(Code::Internal, "a connection's select has no page").into());
        };
        let skipped = skip.is_some_and(|skip| self.bound.integer(skip) > 0);
        let (has_next, has_previous) = if *backward {
            (before.is_some() || skipped, page.more)
        } else {
            (page.more || before.is_some(), after.is_some() || skipped)
        };
        self.members(&info.fields, |writer, (head, field)| {
            writer.out.extend_from_slice(&head.written_key);
            let flag = |value: bool| if value { b"true".as_slice() } else { b"false" };
            let end = match field {
                PageInfoField::HasNextPage => {
                    writer.out.extend_from_slice(flag(has_next));
                    return Ok(());
                }
                PageInfoField::HasPreviousPage => {
                    writer.out.extend_from_slice(flag(has_previous));
                    return Ok(());
                }
                PageInfoField::Typename => {
                    write_string(&mut writer.out, "PageInfo");
                    return Ok(());
                }
                PageInfoField::StartCursor => 0,
                PageInfoField::EndCursor => page.length.saturating_sub(1),
            };
            match end {
                at if at < page.length && !page.connection.cursor.is_empty() => {
                    let cursor = writer.cursor(page.connection, page.row(at));
                    write_plain(&mut writer.out, &cursor);
                }
                _ => writer.out.extend_from_slice(b"null"),
            }
            Ok(())
        })
    }

    fn cursor(&self, connection: &ConnectionShape, row: Row<'_, 's>) -> String {
        self.bound.plan().sealer().seal(&connection.binding, connection.cursor.iter().map(|output| row.cell(*output)))
    }

    fn groups(&mut self, select: SelectId, object: &'a ObjectShape, from: Option<Origin<'_, 's>>) -> Result<(), Stop> {
        self.with_rows(select, from, |writer, rows| {
            writer.out.push(b'[');
            for at in 0..rows.len() {
                if at > 0 {
                    writer.out.push(b',');
                }
                let from = Origin { select, row: rows.row(at) };
                writer.at(Step::Index(at), |writer| writer.object(object, Some(from)))?;
            }
            writer.out.push(b']');
            Ok(())
        })
    }

    fn total_count(
        &mut self,
        select: SelectId,
        output: usize,
        from: Option<Origin<'_, 's>>,
        head: &'a FieldHead,
    ) -> Result<(), Stop> {
        self.with_rows(select, from, |writer, rows| {
            let count = if rows.is_empty() { DatumRef::Integer(0) } else { rows.row(0).cell(output) };
            if write_scalar(&mut writer.out, crate::value::Scalar::Int, count).is_err() {
                let text = "there are more rows than an Int can count";
                return Err(Problem::new(Code::ValueUnfit, text).at(head.location).into());
            }
            Ok(())
        })
    }
}

/// The rows of a connection that are on its page, in the order of the answer.
struct PageOf<'a, 'r, 's> {
    connection: &'a ConnectionShape,
    rows: &'r Rows<'s>,
    length: usize,
    /// Were they read from the end?
    backward: bool,
    /// Are there more in the direction of reading?
    more: bool,
}

impl<'r, 's> PageOf<'_, 'r, 's> {
    /// The row at a position of the page.
    fn row(&self, at: usize) -> Row<'r, 's> {
        self.rows.row(if self.backward { self.length - 1 - at } else { at })
    }
}

/// Appends the name of an enum's value. Null is written as `null`.
fn write_enum(out: &mut Vec<u8>, e: &Enum, cell: DatumRef<'_>) -> Result<(), CoercionError> {
    let text = match cell {
        DatumRef::Null => {
            out.extend_from_slice(b"null");
            return Ok(());
        }
        DatumRef::Text(bytes) => std::str::from_utf8(bytes).ok(),
        DatumRef::Integer(_) | DatumRef::Real(_) | DatumRef::Blob(_) | DatumRef::List(_) => None,
    };
    match text.and_then(|text| e.name_of(text)) {
        Some(name) => {
            write_plain(out, name);
            Ok(())
        }
        None => {
            let found = text.map_or_else(|| cell.describe().to_owned(), |text| format!("the text {text:?}"));
            Err(CoercionError { expected: format!("a value of `{}`", e.name), found })
        }
    }
}
