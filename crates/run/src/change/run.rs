//! One change: finding rows, asking what must be true of them, answering.

use std::time::{Duration, Instant};

use puente_core::answer::{self, KeyValues, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::{ColumnId, Model, TypeId};
use puente_core::plan::change::{Act, Address, Change, GIVEN, Lookup, LookupId, NewRow, Root, Unruled, locator};
use puente_core::plan::{BoundPlan, Plan, SelectId};
use puente_core::rows::Rows;
use puente_core::value::{Datum, Scalar};

use super::create::placed;
use super::{Failure, Session, Step, Touched, Values};
use crate::levels::LevelReader;
use crate::{ChangeRequest, RootAnswer, StatementReport};

/// The cells of one row.
pub(super) type Datums = Vec<Datum>;
/// A row to be created, and the columns that the row it hangs on gives it.
pub(super) type Pending<'c> = (&'c NewRow, Vec<(ColumnId, Datum)>);

/// Bytes of what may be read at once on the way to an answer, however small that has to be: keys of many rows.
const LOOKED_UP_BYTES: usize = 16 << 20;

pub(super) struct Run<'c, S> {
    pub(super) session: &'c mut S,
    pub(super) request: &'c ChangeRequest,
    pub(super) bound: &'c BoundPlan,
    pub(super) model: &'c Model,
    pub(super) change: &'c Change,
    pub(super) touched: &'c mut Touched,
    pub(super) statements: Vec<StatementReport>,
    /// What its answer may have cost.
    pub(super) cost: u64,
    /// The text of the last of them: the same statement over and over is told once.
    last_text: String,
    /// Lookups that found every one of these keys, and must do so again before the end.
    pub(super) checked: Vec<(LookupId, Vec<Datums>)>,
}

impl<'c, S: Session> Run<'c, S> {
    pub(super) fn new(
        session: &'c mut S,
        request: &'c ChangeRequest,
        (root, change): (&'c Root, &'c Change),
        touched: &'c mut Touched,
    ) -> Self {
        let bound = &root.answer;
        let model = bound.plan().model();
        Run {
            session,
            request,
            bound,
            model,
            change,
            touched,
            statements: Vec::new(),
            cost: 0,
            last_text: String::new(),
            checked: Vec::new(),
        }
    }

    pub(super) async fn root(&mut self) -> Result<RootAnswer, Problem> {
        let of = self.change.of;
        self.check_ends().await?;
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

    /// A step in the engine's own language.
    pub(super) fn prepare(&self, step: Step<'_>) -> S::Prepared {
        self.session.prepare(self.model, step)
    }

    /// Runs a step, and remembers that it ran.
    pub(super) async fn execute(
        &mut self,
        prepared: &S::Prepared,
        keys: Option<&KeyValues>,
        given: &[Datum],
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        let start = self.request.timed.then(Instant::now);
        let most_bytes = self.request.most_bytes.max(LOOKED_UP_BYTES);
        let values = Values { bound: self.bound, keys, given, most_bytes };
        let rows = self.session.run(prepared, values, scalars).await?;
        let time = start.map_or(Duration::ZERO, |start| start.elapsed());
        match self.statements.last_mut() {
            Some(last) if self.last_text == S::text(prepared) => {
                last.executions += 1;
                last.rows += rows.len() as u64;
                last.time += time;
            }
            _ => {
                S::text(prepared).clone_into(&mut self.last_text);
                let source = self.request.mutation.source();
                let text = if self.request.timed { self.last_text.clone() } else { String::new() };
                self.statements.push(StatementReport { source, text, executions: 1, rows: rows.len() as u64, time });
            }
        }
        Ok(rows)
    }

    pub(super) fn scalars_of(&self, of: TypeId, columns: &[ColumnId]) -> Vec<Option<Scalar>> {
        columns.iter().map(|column| self.model.types[of].columns[*column].scalar()).collect()
    }

    /// The rows of keys, by a lookup: one entry per key, none where there is no such row.
    pub(super) async fn find(&mut self, lookup: LookupId, keys: Vec<Datums>) -> Result<Vec<Option<Datums>>, Problem> {
        self.find_by(&self.change.lookups[lookup], keys).await
    }

    pub(super) async fn find_by(&mut self, lookup: &Lookup, keys: Vec<Datums>) -> Result<Vec<Option<Datums>>, Problem> {
        let mut found = vec![None; keys.len()];
        if keys.is_empty() {
            return Ok(found);
        }
        let scalars: Vec<_> = std::iter::once(None).chain(self.scalars_of(lookup.of, &lookup.outputs)).collect();
        let keys = KeyValues::new(keys);
        let prepared = self.prepare(Step::Find(lookup));
        let rows = self.execute(&prepared, Some(&keys), &[], &scalars).await.map_err(unexpected)?;
        for at in 0..rows.len() {
            let mut cells: Datums = (0..scalars.len()).map(|column| rows.row(at).cell(column).to_datum()).collect();
            let ordinal = match cells.remove(0) {
                Datum::Integer(ordinal) => usize::try_from(ordinal - 1).ok(),
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
    pub(super) async fn addressed(&mut self, address: &Address) -> Result<Vec<Datums>, Problem> {
        let of = self.change.of;
        let scalars = self.scalars_of(of, &address.outputs);
        let rows =
            self.execute(&self.prepare(Step::Address(address)), None, &[], &scalars).await.map_err(unexpected)?;
        let name = &self.model.types[of].name;
        if address.one && rows.is_empty() {
            if let Some(readable) = &address.readable {
                let scalars = self.scalars_of(of, &readable.outputs);
                let step = self.prepare(Step::Address(readable));
                let there = self.execute(&step, None, &[], &scalars).await.map_err(unexpected)?;
                if !there.is_empty() {
                    let text = format!(
                        "this `{name}` is not one of those that the role may change; its grant says in `rows` which are"
                    );
                    return Err(Problem::new(Code::NotPermitted, text));
                }
            }
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
        self.touched.add(rows.len())?;
        let width = locator(self.model, of).len();
        let mut found = Vec::with_capacity(rows.len());
        for at in 0..rows.len() {
            let row = rows.row(at);
            if let Some(wanted) = &address.revision {
                let cells = (width..width + address.revision_of.len()).map(|column| row.cell(column));
                if self.bound.plan().sealer().revision(name, cells) != *wanted {
                    let text = format!(
                        "this `{name}` was changed since its revision was read; read it again, and decide again"
                    );
                    return Err(Problem::new(Code::StaleRevision, text));
                }
            }
            found.push((0..width).map(|column| row.cell(column).to_datum()).collect());
        }
        Ok(found)
    }

    /// Asks what must be true of rows after they were updated, or created from these places of the input.
    pub(super) async fn check_rows(
        &mut self,
        of: TypeId,
        places: Option<&[&str]>,
        rows: &[Datums],
    ) -> Result<(), Problem> {
        let Some(lookup) = self.change.checks.get(&(of, places.is_some())).copied() else { return Ok(()) };
        let width = self.change.lookups[lookup].by.len();
        let keys: Vec<Datums> = rows.iter().map(|cells| cells[..width].to_vec()).collect();
        let done = if places.is_some() { "create" } else { "update" };
        if let Some(at) = self.unlike(lookup, keys.clone()).await? {
            let problem = self.left_unlike(of, &format!("`check` of its grant to {done} one"));
            return Err(placed(problem, places.unwrap_or_default(), at));
        }
        self.checked.push((lookup, keys));
        Ok(())
    }

    /// Asks it again of those rows that are still there.
    pub(super) async fn check_again(&mut self, lookup: LookupId, keys: Vec<Datums>) -> Result<(), Problem> {
        let Lookup { of, by, .. } = &self.change.lookups[lookup];
        let there = Unruled::StillThere.lookup(self.model, *of, by);
        let found = self.find_by(&there, keys.clone()).await?;
        let there = keys.into_iter().zip(found).filter(|(_, found)| found.is_some()).map(|(key, _)| key);
        match self.unlike(lookup, there.collect()).await? {
            Some(_) => Err(self.left_unlike(*of, "its grant")),
            None => Ok(()),
        }
    }

    /// The first of rows for which what must be true of them is not.
    async fn unlike(&mut self, lookup: LookupId, keys: Vec<Datums>) -> Result<Option<usize>, Problem> {
        Ok(self.find(lookup, keys).await?.iter().position(Option::is_none))
    }

    fn left_unlike(&self, of: TypeId, whose: &str) -> Problem {
        let name = &self.model.types[of].name;
        let text = format!("the role may not leave a row of `{name}` like this; {whose} says what must be true of it");
        Problem::new(Code::NotPermitted, text)
    }

    /// What is answered: the changed rows as they are now.
    pub(super) async fn answer(&mut self, rows: &[Datums], count: usize) -> Result<RootAnswer, Problem> {
        let plan: &Plan = self.bound.plan();
        self.cost = self.bound.check_cost(rows.len(), self.request.most_cost)?;
        let width = plan.row_width(GIVEN);
        let keys: Vec<Datums> = rows.iter().map(|cells| cells[..width].to_vec()).collect();
        let mut levels = Levels::new(plan);
        levels.give(&keys, count);
        let most_bytes = self.request.most_bytes;
        crate::levels::read(plan, &mut levels, most_bytes, self).await?;
        for select in (0..plan.selects().len()).filter(|select| plan.is_beyond_crossing(*select)) {
            levels.fail(select, not_read());
        }
        let written = answer::write(self.bound, &mut levels.fetch(plan), most_bytes)?;
        Ok(RootAnswer { written, open: plan.is_split().then(|| (self.bound.clone(), levels)) })
    }

    /// Values of columns out of a row's identity.
    pub(super) fn pick(
        &self,
        of: TypeId,
        cells: &[Datum],
        columns: impl IntoIterator<Item = ColumnId>,
    ) -> Result<Datums, Problem> {
        let row_locator = locator(self.model, of);
        columns
            .into_iter()
            .map(|column| {
                let at = row_locator.iter().position(|known| *known == column);
                at.map(|at| cells[at].clone())
                    .ok_or_else(|| Problem::new(Code::Internal, "a link starts from a column that is not delivered"))
            })
            .collect()
    }
}

impl<S: Session> LevelReader for Run<'_, S> {
    async fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> Result<(), Problem> {
        let plan: &Plan = self.bound.plan();
        let scalars: Vec<_> = std::iter::once(None).chain(plan.scalars(select)).collect();
        let prepared = self.prepare(Step::Level(plan, select));
        let rows = self.execute(&prepared, keys, &[], &scalars).await.map_err(unexpected)?;
        for at in 0..rows.len() {
            let row = rows.row(at);
            (1..scalars.len()).for_each(|column| levels.rows(select).push(row.cell(column)));
            let ordinal = if let Datum::Integer(ordinal) = row.cell(0).to_datum() { ordinal } else { 0 };
            levels.row_belongs_to(select, ordinal)?;
        }
        Ok(())
    }

    fn take_reports(&mut self) -> Vec<StatementReport> {
        std::mem::take(&mut self.statements)
    }
}

/// The problem of rows of another source, which no transaction of this one waits for.
fn not_read() -> Problem {
    let text = "the change is done, and the rows of this other source could not be read after it; read them by a query";
    Problem::new(Code::SourceUnavailable, text)
}

/// A failure where only rows are read.
pub(super) fn unexpected(failure: Failure) -> Problem {
    match failure {
        Failure::Problem(problem) => problem,
        Failure::Refused(refusal) => {
            Problem::new(Code::Internal, "the statement failed; the log has the details under the request's id")
                .with_detail(refusal.detail)
        }
    }
}
