//! Running the changes of a mutation inside a transaction that the engine has begun, whatever the engine.
//!
//! Rows are created batch by batch: first what they refer to, then the rows themselves, then what refers to them. What the
//! database made of a row (its key, its defaults) flows to the next batch. Rows that are there are found under every
//! condition, locked, and changed by key; then whatever must be true of them is asked of the database.

use std::future::Future;
use std::pin::Pin;
use std::time::{Duration, Instant};

use indexmap::IndexMap;
use puente_core::error::{Code, PathStep, Problem};
use puente_core::json::{self, Answer, Fetch, KeyValues, Levels, Row, Rows};
use puente_core::model::{Cardinality, ColumnId, Link, LinkId, Model, TypeId};
use puente_core::plan::change::{
    Act, Address, Change, EdgeChange, EdgeRow, Existing, GIVEN, Lookup, LookupId, NewRow, Root, Set, Target, identity,
};
use puente_core::plan::{BoundPlan, Plan, Select, SelectId};
use puente_core::sql::{self, Dialect, Statement};
use puente_core::value::{Cell, Scalar};

use crate::{ChangeRequest, Outcome, StatementReport};

/// What is bound to a statement.
#[derive(Clone, Copy)]
pub(crate) struct Values<'v> {
    /// The values of conditions.
    pub(crate) bound: &'v BoundPlan,
    /// Values of keys, or of rows to be inserted as arrays.
    pub(crate) keys: Option<&'v KeyValues>,
    /// The values of one execution.
    pub(crate) given: &'v [Cell],
}

/// A connection inside a transaction.
pub(crate) trait Session: Send {
    /// Runs a statement. `scalars` has one entry per column that it delivers: its scalar, if it has one.
    fn run(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> impl Future<Output = Result<Rows<'static>, Failure>> + Send;

    /// The columns of a constraint that a refusal could only name.
    fn columns_of(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        let _ = (relation, constraint);
        std::future::ready(Vec::new())
    }
}

/// Why a statement failed.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The table does not take what was given.
    Refused(Refusal),
    /// Anything else.
    Problem(Problem),
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Failure::Problem(problem)
    }
}

/// What a table does not take.
#[derive(Debug)]
pub(crate) struct Refusal {
    pub(crate) rule: Rule,
    /// The columns, where the engine tells them.
    pub(crate) columns: Vec<String>,
    /// The constraint's name, where the engine tells only that; or its text.
    pub(crate) constraint: Option<String>,
    /// The database's own text, for the log.
    pub(crate) detail: String,
}

/// The rule of a table that was broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Rule {
    /// A unique key.
    Unique,
    /// A foreign key.
    Reference,
    /// NOT NULL.
    NotNull,
    /// CHECK, or a trigger that raises.
    Check,
    /// A length.
    Length,
    /// A range of numbers or dates.
    Range,
    /// A form: a value that is none of the column's type.
    Form,
}

/// Runs every change, and writes the answer of each as it is reached.
///
/// # Errors
/// The first problem: the caller takes everything back.
pub(crate) async fn run<S: Session>(
    session: &mut S,
    dialect: &'static dyn Dialect,
    request: &ChangeRequest,
) -> Result<Outcome, Problem> {
    check_transactional(request)?;
    let mut body = b"{\"data\":{".to_vec();
    let (mut problems, mut statements, mut pending, mut is_null) = (Vec::new(), Vec::new(), Vec::new(), false);
    for (at, root) in request.mutation.roots.iter().enumerate() {
        let answer = match &root.change {
            None => json::write(&root.answer, &mut Nothing, request.most_bytes),
            Some(change) => {
                let mut run = Run::new(session, dialect, request, root, change);
                let answer = run.root().await;
                statements.append(&mut run.statements);
                pending.extend(run.checked.into_iter().map(|(lookup, keys)| (root, change, lookup, keys)));
                answer
            }
        }
        .map_err(|problem| placed(problem, root))?;
        let data = answer.data();
        match data.strip_prefix(b"{").and_then(|data| data.strip_suffix(b"}")) {
            Some(members) => {
                if at > 0 {
                    body.push(b',');
                }
                body.extend_from_slice(members);
            }
            None => is_null = true,
        }
        problems.extend(answer.problems);
        if body.len() > request.most_bytes {
            let text = format!("the answer is over {} bytes; change in parts, or ask for less", request.most_bytes);
            return Err(Problem::new(Code::TooCostly, text));
        }
    }
    // What was true of a row when it was written may not be after what was written later.
    for (root, change, lookup, keys) in pending {
        let mut run = Run::new(session, dialect, request, root, change);
        run.check_again(lookup, keys).await.map_err(|problem| placed(problem, root))?;
        statements.append(&mut run.statements);
    }
    body.push(b'}');
    if is_null {
        body = b"{\"data\":null".to_vec();
    }
    Ok(Outcome { answer: Answer { body, problems }, statements })
}

/// Where the engine takes nothing back, only what is done as a whole by one statement can be done at all.
fn check_transactional(request: &ChangeRequest) -> Result<(), Problem> {
    let roots = &request.mutation.roots;
    for root in roots {
        let Some(change) = &root.change else { continue };
        let t = &root.answer.plan().model().types[change.of];
        let is_one = match &change.act {
            Act::Create { rows, .. } => matches!(rows.as_slice(), [row] if row.is_alone()),
            Act::Update { address, set } => address.one && set.edges.is_empty() && set.ones.is_empty(),
            Act::Delete { address } => address.one,
        };
        if !t.transactional && (request.rehearse || roots.len() > 1 || !is_one) {
            let text = format!(
                "the table of `{}` is kept without transactions: its rows can be changed one at a time only, and not rehearsed",
                t.name
            );
            return Err(placed(Problem::new(Code::InvalidArgument, text), root));
        }
    }
    Ok(())
}

fn placed(mut problem: Problem, root: &Root) -> Problem {
    if problem.path.is_empty() {
        problem.path = vec![PathStep::Key(root.key.clone())];
        problem = problem.at(root.location);
    }
    problem
}

/// Attempts of one mutation, where each before was taken back as a whole.
#[cfg(any(feature = "postgres", feature = "mariadb"))]
pub(crate) const MOST_ATTEMPTS: u32 = 4;

/// Did another create the row between our look and our insert? Then a second look will find it.
#[cfg(any(feature = "postgres", feature = "mariadb"))]
pub(crate) fn is_race(request: &ChangeRequest, problem: &Problem) -> bool {
    problem.code == Code::Conflict && request.mutation.may_race()
}

/// The problem of a constraint that is looked at with the commit only.
pub(crate) fn late_refusal(refusal: Refusal) -> Problem {
    let (code, text) = match refusal.rule {
        Rule::Unique => (Code::Conflict, "two rows would have the same key; choose another value"),
        Rule::Reference => {
            (Code::ReferenceBroken, "a row would refer to one that is not there; give the key of one that is")
        }
        _ => (Code::ValueRefused, "the rows as they would be are refused by a check of their table"),
    };
    Problem::new(code, text).with_detail(refusal.detail)
}

/// The source of an answer that reads nothing.
struct Nothing;

impl<'s> Fetch<'s> for Nothing {
    fn fetch(&mut self, _: SelectId, _: Option<Row<'_, 's>>, _: &mut Rows<'s>) -> Result<(), Problem> {
        Err(Problem::new(Code::Internal, "a plan without selects has nothing to fetch"))
    }
}

/// The cells of one row.
type Cells = Vec<Cell>;
/// A row to be created, and the columns that the row it hangs on gives it.
type Pending<'c> = (&'c NewRow, Vec<(ColumnId, Cell)>);

struct Run<'c, S> {
    session: &'c mut S,
    dialect: &'static dyn Dialect,
    request: &'c ChangeRequest,
    bound: &'c BoundPlan,
    model: &'c Model,
    change: &'c Change,
    statements: Vec<StatementReport>,
    /// Lookups that found every one of these keys, and must do so again before the end.
    checked: Vec<(LookupId, Vec<Cells>)>,
}

impl<'c, S: Session> Run<'c, S> {
    fn new(
        session: &'c mut S,
        dialect: &'static dyn Dialect,
        request: &'c ChangeRequest,
        root: &'c Root,
        change: &'c Change,
    ) -> Self {
        let bound = &root.answer;
        let model = bound.plan().model();
        Run { session, dialect, request, bound, model, change, statements: Vec::new(), checked: Vec::new() }
    }

    async fn root(&mut self) -> Result<Answer, Problem> {
        let of = self.change.of;
        match &self.change.act {
            Act::Create { rows, existing } => {
                let changed = match existing {
                    None => self.create(of, rows.iter().map(|row| (row, Vec::new())).collect()).await?,
                    Some(existing) => self.create_or_change(of, rows, existing).await?,
                };
                self.answer(&changed, changed.len()).await
            }
            Act::Update { address, set } => {
                let found = self.addressed(address).await?;
                let changed = self.update(of, found, set).await?;
                self.answer(&changed, changed.len()).await
            }
            Act::Delete { address } => {
                let found = self.addressed(address).await?;
                // What is deleted is answered as it was.
                let answer = self.answer(&found, found.len()).await?;
                self.delete(of, &found).await?;
                Ok(answer)
            }
        }
    }

    /// Runs a statement, and remembers that it ran.
    async fn execute(
        &mut self,
        statement: &Statement,
        keys: Option<&KeyValues>,
        given: &[Cell],
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        let start = self.request.timed.then(Instant::now);
        let values = Values { bound: self.bound, keys, given };
        let rows = self.session.run(statement, values, scalars).await?;
        let time = start.map_or(Duration::ZERO, |start| start.elapsed());
        let text = if self.request.timed { statement.text.as_str() } else { "" };
        match self.statements.last_mut() {
            Some(last) if last.text == text && self.request.timed => {
                last.executions += 1;
                last.rows += rows.len() as u64;
                last.time += time;
            }
            _ => self.statements.push(StatementReport {
                text: text.to_owned(),
                executions: 1,
                rows: rows.len() as u64,
                time,
            }),
        }
        Ok(rows)
    }

    fn scalars_of(&self, of: TypeId, columns: &[ColumnId]) -> Vec<Option<Scalar>> {
        columns.iter().map(|column| self.model.types[of].columns[*column].scalar()).collect()
    }

    /// The rows of keys, by a lookup: one entry per key, none where there is no such row.
    async fn find(&mut self, lookup: LookupId, keys: Vec<Cells>) -> Result<Vec<Option<Cells>>, Problem> {
        let lookup = &self.change.lookups[lookup];
        let scalars: Vec<_> = std::iter::once(None).chain(self.scalars_of(lookup.of, &lookup.outputs)).collect();
        self.find_by(&lookup.statement, keys, &scalars).await
    }

    async fn find_by(
        &mut self,
        statement: &Statement,
        keys: Vec<Cells>,
        scalars: &[Option<Scalar>],
    ) -> Result<Vec<Option<Cells>>, Problem> {
        let mut found = vec![None; keys.len()];
        if keys.is_empty() {
            return Ok(found);
        }
        let keys = KeyValues::new(keys);
        let rows = self.execute(statement, Some(&keys), &[], scalars).await.map_err(unexpected)?;
        for at in 0..rows.len() {
            let mut cells: Cells = (0..scalars.len()).map(|column| rows.row(at).cell(column).to_cell()).collect();
            let ordinal = match cells.remove(0) {
                Cell::Integer(ordinal) => usize::try_from(ordinal - 1).ok(),
                _ => None,
            };
            match ordinal.and_then(|ordinal| found.get_mut(ordinal)) {
                Some(place) => *place = Some(cells),
                None => return Err(Problem::new(Code::Internal, "a row came for a key that was not asked about")),
            }
        }
        Ok(found)
    }

    /// The rows that an update or a delete is about.
    async fn addressed(&mut self, address: &Address) -> Result<Vec<Cells>, Problem> {
        let of = self.change.of;
        let scalars = self.scalars_of(of, &address.outputs);
        let rows = self.execute(&address.statement, None, &[], &scalars).await.map_err(unexpected)?;
        let name = &self.model.types[of].name;
        if address.one && rows.is_empty() {
            let text = format!("there is no `{name}` with this key; ask for it with the same key to see");
            return Err(Problem::new(Code::RowMissing, text));
        }
        if rows.len() > address.most {
            let text = format!(
                "over {} `{name}` rows would be touched, the limit of `changes` in `[limits]`; narrow the filter",
                address.most
            );
            return Err(Problem::new(Code::TooCostly, text));
        }
        let width = identity(self.model, of).len();
        let mut found = Vec::with_capacity(rows.len());
        for at in 0..rows.len() {
            let row = rows.row(at);
            if let Some(wanted) = &address.revision {
                let cells = (width..width + address.revision_of.len()).map(|column| row.cell(column));
                if self.bound.plan().sealer().revision(name, cells) != *wanted {
                    let text = format!(
                        "this `{name}` was changed since its revision was read; read it again, and decide anew"
                    );
                    return Err(Problem::new(Code::StaleRevision, text));
                }
            }
            found.push((0..width).map(|column| row.cell(column).to_cell()).collect());
        }
        Ok(found)
    }

    /// Creates rows with everything that hangs on them; gives their identities.
    fn create<'r>(
        &'r mut self,
        of: TypeId,
        rows: Vec<Pending<'c>>,
    ) -> Pin<Box<dyn Future<Output = Result<Vec<Cells>, Problem>> + Send + 'r>>
    where
        'c: 'r,
    {
        Box::pin(async move {
            if rows.is_empty() {
                return Ok(Vec::new());
            }
            let model = self.model;
            let links = &model.types[of].links;
            let mut values: Vec<Vec<(ColumnId, Cell)>> =
                rows.iter().map(|(row, given)| row.values.iter().chain(given).cloned().collect()).collect();
            self.check_visible(of, &rows.iter().map(|(row, _)| row.values.as_slice()).collect::<Vec<_>>()).await?;
            for (id, link) in links.iter().enumerate() {
                let wanted: Vec<(usize, &'c Target)> = rows
                    .iter()
                    .enumerate()
                    .filter_map(|(at, (row, _))| Some((at, &row.ones.iter().find(|(link, _)| *link == id)?.1)))
                    .collect();
                let columns: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
                let targets = wanted.iter().map(|(_, target)| *target).collect();
                let cells = self.targets(link.target, targets, &columns).await?;
                for ((at, _), cells) in wanted.iter().zip(cells) {
                    values[*at].extend(link.pairs.iter().map(|(own, _)| *own).zip(cells));
                }
            }
            let places: Vec<&str> = rows.iter().map(|(row, _)| row.place.as_str()).collect();
            let created = self.insert(of, values, &places).await?;
            for (id, link) in links.iter().enumerate() {
                self.create_along(of, (id, link), &rows, &created).await?;
            }
            self.check_rows(of, true, &created).await?;
            Ok(created)
        })
    }

    /// Creates what hangs on created rows over one link.
    async fn create_along(
        &mut self,
        of: TypeId,
        (id, link): (LinkId, &'c Link),
        rows: &[Pending<'c>],
        created: &[Cells],
    ) -> Result<(), Problem> {
        if link.cardinality == Cardinality::One {
            return Ok(());
        }
        if let Some(through) = &link.through {
            let mut edges = Vec::new();
            for ((row, _), cells) in rows.iter().zip(created) {
                let near = self.pick(of, cells, through.near.iter().map(|(own, _)| *own))?;
                let wanted = row.edges.iter().filter(|(link, _)| *link == id).flat_map(|(_, edges)| edges);
                edges.extend(wanted.map(|edge| (edge, near.clone())));
            }
            return self.link_new(link, edges).await;
        }
        let mut children: Vec<Pending<'c>> = Vec::new();
        for ((row, _), cells) in rows.iter().zip(created) {
            let given = self.pick(of, cells, link.pairs.iter().map(|(own, _)| *own))?;
            let given: Vec<(ColumnId, Cell)> = link.pairs.iter().map(|(_, target)| *target).zip(given).collect();
            let wanted = row.many.iter().filter(|(link, _)| *link == id).flat_map(|(_, children)| children);
            children.extend(wanted.map(|child| (child, given.clone())));
        }
        self.create(link.target, children).await.map(|_| ())
    }

    /// Values of columns out of a row's identity.
    fn pick(&self, of: TypeId, cells: &[Cell], columns: impl IntoIterator<Item = ColumnId>) -> Result<Cells, Problem> {
        let identity = identity(self.model, of);
        columns
            .into_iter()
            .map(|column| {
                let at = identity.iter().position(|known| *known == column);
                at.map(|at| cells[at].clone())
                    .ok_or_else(|| Problem::new(Code::Internal, "a link starts from a column that is not delivered"))
            })
            .collect()
    }

    /// The linked columns of targets: of those that are there, and of those that are created along.
    async fn targets(
        &mut self,
        of: TypeId,
        targets: Vec<&'c Target>,
        columns: &[ColumnId],
    ) -> Result<Vec<Cells>, Problem> {
        let mut cells: Vec<Cells> = vec![Vec::new(); targets.len()];
        let mut by_key: IndexMap<LookupId, Vec<(usize, &'c [Cell], &'c str)>> = IndexMap::new();
        let mut new: Vec<(usize, &'c NewRow)> = Vec::new();
        for (at, target) in targets.into_iter().enumerate() {
            match target {
                Target::Key { lookup, key, place } => by_key.entry(*lookup).or_default().push((at, key, place)),
                Target::New(row) => new.push((at, row)),
            }
        }
        for (lookup, wanted) in by_key {
            let found = self.find(lookup, wanted.iter().map(|(_, key, _)| key.to_vec()).collect()).await?;
            for ((at, _, place), found) in wanted.into_iter().zip(found) {
                cells[at] = found.ok_or_else(|| {
                    let name = &self.model.types[of].name;
                    let text = format!(
                        "{place}: there is no `{name}` with this key; link one that is there, or create it along"
                    );
                    Problem::new(Code::ReferenceBroken, text)
                })?;
            }
        }
        let created = self.create(of, new.iter().map(|(_, row)| (*row, Vec::new())).collect()).await?;
        for ((at, _), identity) in new.into_iter().zip(created) {
            cells[at] = self.pick(of, &identity, columns.iter().copied())?;
        }
        Ok(cells)
    }

    /// May the links be set to what their columns now say?
    async fn check_visible(&mut self, of: TypeId, rows: &[&[(ColumnId, Cell)]]) -> Result<(), Problem> {
        let change = self.change;
        for (id, link) in self.model.types[of].links.iter().enumerate() {
            let Some(lookup) = change.visible.get(&(of, id)) else { continue };
            let key = |values: &&[(ColumnId, Cell)]| -> Option<Cells> {
                let value =
                    |column: ColumnId| values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
                let cells: Option<Cells> = link.pairs.iter().map(|(own, _)| value(*own)).collect();
                cells.filter(|cells| !cells.contains(&Cell::Null))
            };
            let keys: Vec<Cells> = rows.iter().filter_map(key).collect();
            if self.find(*lookup, keys).await?.contains(&None) {
                let columns: Vec<ColumnId> = link.pairs.iter().map(|(own, _)| *own).collect();
                return Err(self.missing_target(of, &columns));
            }
        }
        Ok(())
    }

    fn missing_target(&self, of: TypeId, columns: &[ColumnId]) -> Problem {
        let t = &self.model.types[of];
        let link = t.links.iter().find(|link| {
            link.cardinality == Cardinality::One
                && link.through.is_none()
                && link.pairs.len() == columns.len()
                && link.pairs.iter().all(|(own, _)| columns.contains(own))
        });
        let target = link.map_or("row", |link| self.model.types[link.target].name.as_str());
        let fields = self.fields(of, columns);
        let text = match fields.as_slice() {
            [] => format!("a value refers to no `{target}` that is there; give the key of one that is"),
            fields => {
                format!("{} refers to no `{target}` that is there; give the key of one that is", fields.join(" and "))
            }
        };
        Problem::new(Code::ReferenceBroken, text)
    }

    /// The fields of columns, in backticks: those that the caller may write.
    fn fields(&self, of: TypeId, columns: &[ColumnId]) -> Vec<String> {
        let known = self.change.fields.get(&of);
        let field = |column: &ColumnId| known.and_then(|fields| fields[*column].clone());
        columns.iter().filter_map(field).map(|field| format!("`{field}`")).collect()
    }

    /// Inserts rows in as few statements as the engine allows; gives their identities.
    async fn insert(
        &mut self,
        of: TypeId,
        rows: Vec<Vec<(ColumnId, Cell)>>,
        places: &[&str],
    ) -> Result<Vec<Cells>, Problem> {
        // Rows with values for the same columns go together; where each has a statement of its own, in their order.
        let mut groups: IndexMap<(usize, Vec<ColumnId>), Vec<usize>> = IndexMap::new();
        for (at, row) in rows.iter().enumerate() {
            let mut columns: Vec<ColumnId> = row.iter().map(|(column, _)| *column).collect();
            columns.sort_unstable();
            let place = if self.dialect.rows_per_insert(columns.len()) == 1 { at } else { 0 };
            groups.entry((place, columns)).or_default().push(at);
        }
        let returning = identity(self.model, of);
        let mut identities: Vec<Cells> = vec![Vec::new(); rows.len()];
        for ((_, columns), members) in groups {
            let most = if columns.is_empty() { 1 } else { self.dialect.rows_per_insert(columns.len()) };
            for chunk in members.chunks(most) {
                let value = |row: &[(ColumnId, Cell)], column: ColumnId| {
                    row.iter().find(|(known, _)| *known == column).map_or(Cell::Null, |(_, cell)| cell.clone())
                };
                let cells: Vec<Cells> =
                    chunk.iter().map(|at| columns.iter().map(|column| value(&rows[*at], *column)).collect()).collect();
                let inserted = self.insert_chunk(of, &columns, cells, &returning).await;
                let inserted = match inserted {
                    Ok(inserted) => inserted,
                    Err(failure) => {
                        let written: Vec<_> = chunk.iter().map(|at| rows[*at].as_slice()).collect();
                        let problem = self.refused(of, &written, failure).await;
                        let place = if let [only] = chunk { Some(places[*only]) } else { None };
                        return Err(match place.filter(|_| rows.len() > 1 || places[0] != "input") {
                            Some(place) => Problem { message: format!("{place}: {}", problem.message), ..problem },
                            None => problem,
                        });
                    }
                };
                for (at, identity) in chunk.iter().zip(inserted) {
                    identities[*at] = identity;
                }
            }
        }
        Ok(identities)
    }

    async fn insert_chunk(
        &mut self,
        of: TypeId,
        columns: &[ColumnId],
        cells: Vec<Cells>,
        returning: &[ColumnId],
    ) -> Result<Vec<Cells>, Failure> {
        let statement = sql::insert(self.model, self.dialect, of, columns, cells.len(), returning);
        let scalars = self.scalars_of(of, returning);
        let expected = cells.len();
        let given: Cells = cells.iter().flatten().cloned().collect();
        let keys = KeyValues::new(cells);
        let inserted = self.execute(&statement, Some(&keys), &given, &scalars).await?;
        if inserted.len() != expected {
            let text =
                "the database took another number of rows than it was given; a trigger or a rule must be in the way";
            return Err(Problem::new(Code::ValueRefused, text).into());
        }
        let row = |at: usize| (0..returning.len()).map(|column| inserted.row(at).cell(column).to_cell()).collect();
        Ok((0..expected).map(row).collect())
    }

    /// Creates rows of a join table between rows that are both there by now.
    async fn link_new(&mut self, link: &'c Link, edges: Vec<(&'c EdgeRow, Cells)>) -> Result<(), Problem> {
        let Some(through) = link.through.as_ref().filter(|_| !edges.is_empty()) else { return Ok(()) };
        let columns: Vec<ColumnId> = through.far.iter().map(|(_, target)| *target).collect();
        let targets = edges.iter().map(|(edge, _)| &edge.target).collect();
        let far = self.targets(link.target, targets, &columns).await?;
        let places: Vec<&str> = edges.iter().map(|(edge, _)| edge.place.as_str()).collect();
        let rows = edges.iter().zip(far).map(|((edge, near), far)| {
            let near = through.near.iter().map(|(_, join)| *join).zip(near.iter().cloned());
            let far = through.far.iter().map(|(join, _)| *join).zip(far);
            near.chain(far).chain(edge.values.iter().cloned()).collect()
        });
        let created = self.insert(through.join, rows.collect(), &places).await?;
        self.check_rows(through.join, true, &created).await
    }

    /// Creates the rows whose key is not there yet; keeps or changes the others.
    async fn create_or_change(
        &mut self,
        of: TypeId,
        rows: &'c [NewRow],
        existing: &'c Existing,
    ) -> Result<Vec<Cells>, Problem> {
        let key = |row: &NewRow| -> Result<Cells, Problem> {
            let cell =
                |column: &ColumnId| row.values.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone());
            existing.key.iter().map(cell).collect::<Option<Cells>>().ok_or_else(|| {
                let fields = self.fields(of, &existing.key).join(" and ");
                let text = format!("{}: `ifExists` looks for a row by {fields}; give it a value", row.place);
                Problem::new(Code::InvalidArgument, text)
            })
        };
        let keys: Vec<Cells> = rows.iter().map(key).collect::<Result<_, _>>()?;
        let found = self.find(existing.find, keys.clone()).await?;
        let mut identities: Vec<Cells> = vec![Vec::new(); rows.len()];
        let (mut new, mut there): (Vec<usize>, Vec<usize>) = (Vec::new(), Vec::new());
        for (at, found) in found.into_iter().enumerate() {
            if keys[..at].contains(&keys[at]) && !keys[at].contains(&Cell::Null) {
                let text =
                    format!("{}: an earlier row of the same mutation has the same key; say it once", rows[at].place);
                return Err(Problem::new(Code::Conflict, text));
            }
            match found {
                Some(identity) => {
                    identities[at] = identity;
                    there.push(at);
                }
                None => new.push(at),
            }
        }
        let created = self.create(of, new.iter().map(|at| (&rows[*at], Vec::new())).collect()).await?;
        for (at, identity) in new.into_iter().zip(created) {
            identities[at] = identity;
        }
        if existing.changes {
            self.change_existing(of, rows, existing, &there, &mut identities).await?;
        }
        Ok(identities)
    }

    async fn change_existing(
        &mut self,
        of: TypeId,
        rows: &'c [NewRow],
        existing: &'c Existing,
        there: &[usize],
        identities: &mut [Cells],
    ) -> Result<(), Problem> {
        let nested = |row: &&NewRow| !row.ones.is_empty() || !row.many.is_empty() || !row.edges.is_empty();
        if let Some(row) = there.iter().map(|at| &rows[*at]).find(nested) {
            let text = format!(
                "{}: a row that is there already is changed in its own fields only; link with `set`, by an update",
                row.place
            );
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let mut groups: IndexMap<Vec<ColumnId>, Vec<usize>> = IndexMap::new();
        for at in there {
            let set =
                rows[*at].values.iter().map(|(column, _)| *column).filter(|column| !existing.key.contains(column));
            let mut set: Vec<ColumnId> = set.collect();
            set.sort_unstable();
            groups.entry(set).or_default().push(*at);
        }
        self.check_visible(of, &there.iter().map(|at| rows[*at].values.as_slice()).collect::<Vec<_>>()).await?;
        for (set, members) in groups.into_iter().filter(|(set, _)| !set.is_empty()) {
            let mut given = Vec::new();
            for at in &members {
                let value = |column: &ColumnId| {
                    rows[*at].values.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone())
                };
                given.push(identities[*at][..key.len()].iter().cloned().chain(set.iter().filter_map(value)).collect());
            }
            self.update_each(of, &set, &key, given).await?;
            for at in members {
                identities[at] = self.replaced(of, &identities[at], &rows[at].values);
            }
        }
        let changed: Vec<Cells> = there.iter().map(|at| identities[*at].clone()).collect();
        self.check_rows(of, false, &changed).await
    }

    /// A row's identity after columns were set.
    fn replaced(&self, of: TypeId, cells: &[Cell], set: &[(ColumnId, Cell)]) -> Cells {
        let set_to = |column: &ColumnId| set.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone());
        identity(self.model, of)
            .iter()
            .zip(cells)
            .map(|(column, cell)| set_to(column).unwrap_or_else(|| cell.clone()))
            .collect()
    }

    /// Sets columns of rows to values of their own; each row's key comes before its values.
    async fn update_each(
        &mut self,
        of: TypeId,
        set: &[ColumnId],
        key: &[ColumnId],
        rows: Vec<Cells>,
    ) -> Result<(), Problem> {
        let columns: Vec<_> = set.iter().map(|column| &self.model.types[of].columns[*column]).collect();
        let together = if self.dialect.types_rows(&columns) { ROWS_PER_STATEMENT } else { 1 };
        for chunk in rows.chunks(together) {
            let statement = sql::update_each(self.model, self.dialect, of, set, key, chunk.len());
            let given: Cells = chunk.concat();
            if let Err(failure) = self.execute(&statement, None, &given, &[]).await {
                let values = |row: &Cells| set.iter().copied().zip(row[key.len()..].iter().cloned()).collect();
                let written: Vec<Vec<(ColumnId, Cell)>> = chunk.iter().map(values).collect();
                return Err(self.refused(of, &written.iter().map(Vec::as_slice).collect::<Vec<_>>(), failure).await);
            }
        }
        Ok(())
    }

    /// Updates rows that were addressed; gives their identities as they are now.
    async fn update(&mut self, of: TypeId, found: Vec<Cells>, set: &'c Set) -> Result<Vec<Cells>, Problem> {
        if found.is_empty() {
            return Ok(found);
        }
        let plain: Vec<(ColumnId, Cell)> =
            set.values.iter().filter(|(.., adds)| !adds).map(|(column, cell, _)| (*column, cell.clone())).collect();
        self.check_visible(of, &[&plain]).await?;
        let mut values = set.values.clone();
        for (id, target) in &set.ones {
            let link = &self.model.types[of].links[*id];
            let columns: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
            let cells = self.targets(link.target, vec![target], &columns).await?.remove(0);
            values.extend(link.pairs.iter().zip(cells).map(|((own, _), cell)| (*own, cell, false)));
        }
        if !values.is_empty() {
            let columns: Vec<(ColumnId, bool)> = values.iter().map(|(column, _, adds)| (*column, *adds)).collect();
            let set_to: Cells = values.iter().map(|(_, cell, _)| cell.clone()).collect();
            let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
            for chunk in found.chunks(ROWS_PER_STATEMENT) {
                let statement = sql::update(self.model, self.dialect, of, &columns, &key, chunk.len());
                let keys = chunk.iter().flat_map(|cells| cells[..key.len()].iter().cloned());
                let given: Cells = set_to.iter().cloned().chain(keys).collect();
                if let Err(failure) = self.execute(&statement, None, &given, &[]).await {
                    let written: Vec<_> = values.iter().map(|(column, cell, _)| (*column, cell.clone())).collect();
                    return Err(self.refused(of, &[&written], failure).await);
                }
            }
        }
        let plain: Vec<(ColumnId, Cell)> =
            values.into_iter().filter(|(.., adds)| !adds).map(|(column, cell, _)| (column, cell)).collect();
        let now: Vec<Cells> = found.iter().map(|cells| self.replaced(of, cells, &plain)).collect();
        for change in &set.edges {
            self.change_edges(of, change, &now).await?;
        }
        self.check_rows(of, false, &now).await?;
        Ok(now)
    }

    /// Links and unlinks over a join table, for every row of a change.
    async fn change_edges(&mut self, of: TypeId, change: &'c EdgeChange, rows: &[Cells]) -> Result<(), Problem> {
        let link = &self.model.types[of].links[change.link];
        let Some(through) = &link.through else { return Ok(()) };
        let far_columns: Vec<ColumnId> = through.far.iter().map(|(_, target)| *target).collect();
        let near: Vec<Cells> = rows
            .iter()
            .map(|cells| self.pick(of, cells, through.near.iter().map(|(own, _)| *own)))
            .collect::<Result<_, _>>()?;
        let join_key = self.model.types[through.join].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        if let Some(removable) = change.removable.filter(|_| !change.remove.is_empty()) {
            let far = self.targets(link.target, change.remove.iter().collect(), &far_columns).await?;
            let ends = near.iter().flat_map(|near| far.iter().map(|far| [near.as_slice(), far].concat()));
            let found = self.find(removable, ends.collect()).await?;
            self.delete(through.join, &found.into_iter().flatten().collect::<Vec<_>>()).await?;
        }
        if change.add.is_empty() {
            return Ok(());
        }
        let far = self.targets(link.target, change.add.iter().map(|edge| &edge.target).collect(), &far_columns).await?;
        let mut wanted: Vec<(&EdgeRow, Cells)> = Vec::new();
        for near in &near {
            wanted.extend(change.add.iter().zip(&far).map(|(edge, far)| (edge, [near.as_slice(), far].concat())));
        }
        let found = match change.updatable {
            Some(updatable) => self.find(updatable, wanted.iter().map(|(_, ends)| ends.clone()).collect()).await?,
            None => vec![None; wanted.len()],
        };
        let (mut new, mut places, mut there) = (Vec::new(), Vec::new(), IndexMap::<Vec<ColumnId>, Vec<Cells>>::new());
        let ends: Vec<ColumnId> =
            through.near.iter().map(|(_, join)| *join).chain(through.far.iter().map(|(join, _)| *join)).collect();
        for ((edge, cells), found) in wanted.into_iter().zip(found) {
            match found {
                None => {
                    new.push(ends.iter().copied().zip(cells).chain(edge.values.iter().cloned()).collect());
                    places.push(edge.place.as_str());
                }
                Some(identity) if !edge.values.is_empty() => {
                    let set = edge.values.iter().map(|(column, _)| *column).collect();
                    let values = edge.values.iter().map(|(_, cell)| cell.clone());
                    let row = identity[..join_key.len()].iter().cloned().chain(values).collect();
                    there.entry(set).or_default().push(row);
                }
                Some(_) => {}
            }
        }
        for (set, rows) in there {
            let keys: Vec<Cells> = rows.iter().map(|row| row[..join_key.len()].to_vec()).collect();
            self.update_each(through.join, &set, &join_key, rows).await?;
            self.check_rows(through.join, false, &keys).await?;
        }
        let created = self.insert(through.join, new, &places).await?;
        self.check_rows(through.join, true, &created).await
    }

    async fn delete(&mut self, of: TypeId, found: &[Cells]) -> Result<(), Problem> {
        let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        for chunk in found.chunks(ROWS_PER_STATEMENT) {
            let statement = sql::delete(self.model, self.dialect, of, &key, chunk.len());
            let given: Cells = chunk.iter().flat_map(|cells| cells[..key.len()].iter().cloned()).collect();
            match self.execute(&statement, None, &given, &[]).await {
                Ok(_) => {}
                Err(Failure::Refused(refusal)) if refusal.rule == Rule::Reference => {
                    return Err(self.still_referred_to(of).with_detail(refusal.detail));
                }
                Err(failure) => return Err(self.refused(of, &[], failure).await),
            }
        }
        Ok(())
    }

    fn still_referred_to(&self, of: TypeId) -> Problem {
        let name = &self.model.types[of].name;
        let text = format!("other rows still refer to this `{name}`; change or delete them first");
        Problem::new(Code::ReferenceBroken, text)
    }

    /// Asks what must be true of rows after they were created or updated.
    async fn check_rows(&mut self, of: TypeId, created: bool, rows: &[Cells]) -> Result<(), Problem> {
        let Some(lookup) = self.change.checks.get(&(of, created)).copied() else { return Ok(()) };
        let width = self.change.lookups[lookup].by.len();
        let keys: Vec<Cells> = rows.iter().map(|cells| cells[..width].to_vec()).collect();
        self.check(lookup, keys.clone()).await?;
        self.checked.push((lookup, keys));
        Ok(())
    }

    /// Asks it again of those rows that are still there.
    async fn check_again(&mut self, lookup: LookupId, keys: Vec<Cells>) -> Result<(), Problem> {
        let Lookup { of, by, .. } = &self.change.lookups[lookup];
        let statement = sql::keyed(self.model, self.dialect, &Select::keyed(*of, by, &[], Vec::new()), false);
        let found = self.find_by(&statement, keys.clone(), &[None]).await?;
        let there = keys.into_iter().zip(found).filter(|(_, found)| found.is_some()).map(|(key, _)| key);
        self.check(lookup, there.collect()).await
    }

    async fn check(&mut self, lookup: LookupId, keys: Vec<Cells>) -> Result<(), Problem> {
        let of = self.change.lookups[lookup].of;
        if self.find(lookup, keys).await?.contains(&None) {
            let name = &self.model.types[of].name;
            let text = format!("the role may not leave a `{name}` like this; its grant says what must be true of one");
            return Err(Problem::new(Code::NotPermitted, text));
        }
        Ok(())
    }

    /// What is answered: the changed rows as they are now.
    async fn answer(&mut self, rows: &[Cells], count: usize) -> Result<Answer, Problem> {
        let plan: &Plan = self.bound.plan();
        let width = plan.row_width(GIVEN);
        let keys: Vec<Cells> = rows.iter().map(|cells| cells[..width].to_vec()).collect();
        let mut levels = Levels::new(plan);
        levels.give(&keys, count);
        for select in (0..plan.selects().len()).filter(|select| plan.runs(*select)) {
            let keys = levels.keys(plan, select);
            if keys.is_empty() {
                continue;
            }
            let statement = &plan.program().statements()[select];
            let scalars: Vec<_> = std::iter::once(None).chain(plan.scalars(select)).collect();
            let rows = self.execute(statement, Some(&keys), &[], &scalars).await.map_err(unexpected)?;
            for at in 0..rows.len() {
                let row = rows.row(at);
                (1..scalars.len()).for_each(|column| levels.rows(select).push(row.cell(column)));
                let ordinal = if let Cell::Integer(ordinal) = row.cell(0).to_cell() { ordinal } else { 0 };
                levels.row_belongs_to(select, ordinal)?;
            }
            levels.check_size(self.request.most_bytes)?;
        }
        json::write(self.bound, &mut levels.fetch(plan), self.request.most_bytes)
    }

    /// The problem of a write that the table does not take.
    async fn refused(&mut self, of: TypeId, written: &[&[(ColumnId, Cell)]], failure: Failure) -> Problem {
        let mut refusal = match failure {
            Failure::Problem(problem) => return problem,
            Failure::Refused(refusal) => refusal,
        };
        let t = &self.model.types[of];
        if let Some(constraint) = refusal.constraint.as_ref().filter(|_| refusal.columns.is_empty()) {
            refusal.columns = self.session.columns_of(&t.relation, constraint).await;
            if refusal.columns.is_empty() {
                // A check's name or text mostly names its columns.
                let is_named = |name: &str| words(constraint).any(|word| word.eq_ignore_ascii_case(name));
                refusal.columns = t.columns.iter().map(|c| c.name.clone()).filter(|name| is_named(name)).collect();
            }
        }
        let columns: Vec<ColumnId> = refusal.columns.iter().filter_map(|name| t.column_named(name)).collect();
        let fields = self.fields(of, &columns);
        let named = if fields.is_empty() { "a value".to_owned() } else { fields.join(" and ") };
        let name = &t.name;
        let (code, text) = match refusal.rule {
            Rule::Unique if fields.is_empty() => (
                Code::Conflict,
                format!("there is a `{name}` with the same key already; choose another value, or say `ifExists`"),
            ),
            Rule::Unique => (
                Code::Conflict,
                format!("there is a `{name}` with this {named} already; choose another value, or say `ifExists`"),
            ),
            Rule::Reference if !columns.is_empty() => {
                return self.missing_target(of, &columns).with_detail(refusal.detail);
            }
            Rule::Reference => {
                if let Some(columns) = self.dangling(of, written).await {
                    return self.missing_target(of, &columns).with_detail(refusal.detail);
                }
                let text = "a value refers to a row that is not there, or the row is still referred to by its old key";
                (Code::ReferenceBroken, format!("{text}; look at the links of `{name}`"))
            }
            Rule::NotNull => (Code::ValueRefused, format!("{named} of `{name}` cannot be null; give it a value")),
            Rule::Check => (
                Code::ValueRefused,
                format!("{named} of `{name}` is refused by a check of the table; look at what it allows"),
            ),
            Rule::Length => (Code::ValueRefused, format!("{named} of `{name}` is too long; shorten it")),
            Rule::Range => {
                (Code::ValueRefused, format!("{named} of `{name}` is out of its range; give a smaller or larger one"))
            }
            Rule::Form => (Code::ValueRefused, format!("{named} of `{name}` has not the form that its column takes")),
        };
        Problem::new(code, text).with_detail(refusal.detail)
    }

    /// Which columns refer to a row that is not there, where the engine does not say it.
    async fn dangling(&mut self, of: TypeId, written: &[&[(ColumnId, Cell)]]) -> Option<Vec<ColumnId>> {
        let links = &self.model.types[of].links;
        for link in links.iter().filter(|link| link.cardinality == Cardinality::One && link.through.is_none()) {
            let own: Vec<ColumnId> = link.pairs.iter().map(|(own, _)| *own).collect();
            let by: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
            let value = |row: &[(ColumnId, Cell)], column| {
                row.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone())
            };
            let key =
                |row: &&[(ColumnId, Cell)]| own.iter().map(|column| value(row, *column)).collect::<Option<Cells>>();
            let keys: Vec<Cells> = written.iter().filter_map(key).filter(|key| !key.contains(&Cell::Null)).collect();
            let statement =
                sql::keyed(self.model, self.dialect, &Select::keyed(link.target, &by, &[], Vec::new()), false);
            if self.find_by(&statement, keys, &[None]).await.is_ok_and(|found| found.contains(&None)) {
                return Some(own);
            }
        }
        None
    }
}

/// Rows of one UPDATE or DELETE: engines limit parameters, and the depth of a condition.
const ROWS_PER_STATEMENT: usize = 200;

/// The words of a constraint's name or text; those of a name are parted by underscores, too, in every way.
fn words(text: &str) -> impl Iterator<Item = String> {
    let mut found: Vec<String> = Vec::new();
    for word in text.split(|c: char| !c.is_alphanumeric() && c != '_') {
        let parts: Vec<&str> = word.split('_').collect();
        for from in 0..parts.len() {
            for to in from + 1..=parts.len() {
                found.push(parts[from..to].join("_"));
            }
        }
    }
    found.into_iter()
}

/// A failure where only rows are read.
fn unexpected(failure: Failure) -> Problem {
    match failure {
        Failure::Problem(problem) => problem,
        Failure::Refused(refusal) => {
            Problem::new(Code::Internal, "the statement failed; the log has the details under the request's id")
                .with_detail(refusal.detail)
        }
    }
}
