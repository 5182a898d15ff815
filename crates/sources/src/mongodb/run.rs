//! Running a bound plan: one command per level, in one snapshot where there are several.

use std::any::Any;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bson::raw::{RawBsonRef, RawDocument, RawDocumentBuf};
use bson::{Bson, Document, doc};
use mongodb::{ClientSession, Database, SessionCursor};
use puente_core::answer::{KeyValues, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{BoundPlan, Capabilities, Plan, RowSet, SelectId};
use puente_core::rows::{Rows, check_held};
use puente_core::value::{Datum, DatumRef};
use puente_run::levels::{self, LevelReader};
use puente_run::turns::Load;
use puente_run::{ChangeRequest, Explanation, Outcome, Prepared, Request, StatementReport};

use super::connect::{Server, Session};
use super::fault;
use super::pipeline::{Branch, Command, FOUND, Find, Form, ORDINAL, Reader, command};
use super::template::{Node, Values};
use super::values::Conversion;
use crate::attempts;
use crate::cluster::{self, Job};
use crate::server::within;
use crate::statements::needs_snapshot;

/// The commands of a plan, by the ids of its selects.
#[derive(Debug)]
pub(super) struct Commands(pub(super) Vec<Option<Command>>);

impl Prepared for Commands {
    fn weight(&self) -> usize {
        self.0.iter().flatten().map(Command::weight).sum()
    }
}

impl cluster::Server for Server {
    fn capabilities() -> Capabilities {
        Capabilities {
            nulls_are_smallest: true,
            // Parts are read out of documents as quickly as the whole.
            most_json_parts: usize::MAX,
            most_json_levels: puente_core::value::MOST_LEVELS,
            joins: false,
        }
    }

    fn prepare(plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        let select = |id: SelectId| {
            let node = &plan.selects()[id];
            let is_here = plan.source_of(id) == source && !matches!(node.row_set, RowSet::Supplied);
            is_here.then(|| command(plan.model(), node))
        };
        Arc::new(Commands((0..plan.selects().len()).map(select).collect()))
    }

    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        self.run(job).await
    }

    async fn change(&self, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
        attempts::run(self, job).await
    }

    async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        self.explain(job).await
    }

    fn load(&self) -> Load {
        self.load()
    }

    async fn reach(&self) -> Result<(), Problem> {
        self.reach().await
    }
}

/// The commands of a request's plan.
pub(super) fn commands(request: &Request) -> &[Option<Command>] {
    let prepared: &dyn Any = &*request.prepared;
    let commands: &Commands = prepared.downcast_ref().expect("a plan is run by a source of the kind that prepared it");
    &commands.0
}

impl Server {
    /// Runs a plan. What nobody waits for any more, and what takes too long, is given up: the driver ends its cursor, and the server
    /// what it is still at, at the command's own time limit.
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        let request = &*job.request;
        let mut disconnected = job.disconnected;
        let mut retried = false;
        loop {
            let mut session = self.session(&request.party, request.deadline).await?;
            if needs_snapshot(request) {
                begin_reading(&mut session).await?;
            }
            match within(
                request.deadline,
                &mut disconnected,
                levels::answer(request, Reading::new(&mut session, request)),
            )
            .await
            {
                // The connection had died before this request, most likely; reads can be asked again on a new one.
                Some(Err(problem)) if fault::is_lost(&problem) && !retried => {
                    self.lost();
                    retried = true;
                }
                Some(result) => return result,
                None => return Err(Problem::timed_out()),
            }
        }
    }
}

/// Makes a session read one state of the data, where the deployment has such.
pub(super) async fn begin_reading(session: &mut Session) -> Result<(), Problem> {
    if session.reached.has_transactions {
        let begun = session.reached.database.client().start_session().snapshot(true).await;
        session.session = begun.map_err(|error| fault::problem(&error))?;
    }
    Ok(())
}

/// A session that reads the levels of a request.
pub(super) struct Reading<'c> {
    session: &'c mut Session,
    request: &'c Request,
    reports: Vec<StatementReport>,
}

impl<'c> Reading<'c> {
    pub(super) fn new(session: &'c mut Session, request: &'c Request) -> Self {
        Reading { session, request, reports: Vec::new() }
    }
}

/// The values of a request, where there are none of an execution.
pub(super) struct OfRequest<'b>(pub(super) &'b BoundPlan);

impl Values for OfRequest<'_> {
    fn parameter(&self, number: usize) -> &Datum {
        self.0.value(number)
    }

    fn given(&self, _: usize) -> &Datum {
        &Datum::Null
    }
}

impl LevelReader for Reading<'_> {
    async fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> Result<(), Problem> {
        let Some(command) = &commands(self.request)[select] else { return Ok(()) };
        let start = Instant::now();
        let values = OfRequest(&self.request.bound);
        let sent = Sent {
            command,
            values: &values,
            keys,
            time: self.request.deadline.saturating_duration_since(start),
            most_bytes: self.request.most_bytes,
        };
        let Session { session, reached, .. } = &mut *self.session;
        let mut count = 0;
        // Rows of a select without outputs have one cell all the same.
        let width = self.request.bound.plan().row_width(select);
        sent.read(&reached.database, session, |ordinal, cells| {
            count += 1;
            let rows = levels.rows(select);
            let pushed = cells(rows);
            (pushed..width).for_each(|_| rows.push(DatumRef::Null));
            match ordinal {
                Some(ordinal) => levels.row_belongs_to(select, ordinal),
                None => Ok(()),
            }
        })
        .await
        .map_err(Failed::problem)?;
        let text = if self.request.timed { command.text() } else { String::new() };
        let source = self.request.source;
        self.reports.push(StatementReport { source, text, executions: 1, rows: count, time: start.elapsed() });
        Ok(())
    }

    fn take_reports(&mut self) -> Vec<StatementReport> {
        std::mem::take(&mut self.reports)
    }
}

/// Why a command's documents stopped.
#[derive(Debug)]
pub(super) enum Failed {
    /// The driver's error.
    Database(mongodb::error::Error),
    /// What we make of them.
    Problem(Problem),
}

impl Failed {
    /// What it is to a caller.
    pub(super) fn problem(self) -> Problem {
        match self {
            Failed::Database(error) => fault::problem(&error),
            Failed::Problem(problem) => problem,
        }
    }
}

impl From<mongodb::error::Error> for Failed {
    fn from(error: mongodb::error::Error) -> Self {
        Failed::Database(error)
    }
}

impl From<Problem> for Failed {
    fn from(problem: Problem) -> Self {
        Failed::Problem(problem)
    }
}

/// A command on its way.
pub(super) struct Sent<'s, V> {
    pub(super) command: &'s Command,
    pub(super) values: &'s V,
    /// The keys of its parents, where it has some.
    pub(super) keys: Option<&'s KeyValues>,
    /// How long the server may work at it.
    pub(super) time: Duration,
    pub(super) most_bytes: usize,
}

impl<V: Values> Sent<'_, V> {
    /// Reads what comes back, document by document. Bytes are counted as they arrive: they stop where an answer of `most_bytes` could
    /// not be made of them. `row` gets the ordinal of a document's key, and what appends its cells.
    pub(super) async fn read(
        &self,
        database: &Database,
        session: &mut ClientSession,
        mut row: impl FnMut(Option<i64>, &mut dyn FnMut(&mut Rows<'_>) -> usize) -> Result<(), Problem>,
    ) -> Result<(), Failed> {
        let Some(mut cursor) = self.send(database, session).await? else { return Ok(()) };
        let (reader, mut bytes) = (&self.command.reader, 0);
        while cursor.advance(session).await? {
            let document = cursor.current();
            bytes += document.as_bytes().len();
            check_held(bytes, self.most_bytes)?;
            let (ordinal, document) = match self.command.form {
                Form::Keyed { .. } => {
                    let ordinal = document.get_i64(ORDINAL).ok();
                    let found = document.get_document(FOUND);
                    (Some(ordinal.unwrap_or(0)), found.map_err(|_| unreadable())?)
                }
                Form::Find(_) | Form::Stages(_) => (None, document),
            };
            let mut found = vec![None; reader.outputs.len()];
            collect(&reader.root, document, &mut found)?;
            row(ordinal, &mut |rows| append(reader, &found, rows))?;
        }
        Ok(())
    }

    /// Sends it; nothing where nothing is asked for.
    async fn send(
        &self,
        database: &Database,
        session: &mut ClientSession,
    ) -> Result<Option<SessionCursor<RawDocumentBuf>>, Failed> {
        let Command { collection, form, most, .. } = self.command;
        let count = |number: usize| match self.values.parameter(number) {
            Datum::Integer(count) => *count,
            _ => 0,
        };
        if most.is_some_and(|(most, more)| count(most) + more <= 0) {
            return Ok(None);
        }
        let time = self.time.max(Duration::from_millis(1));
        let cursor = match form {
            Form::Find(find) => {
                let Find { filter, projection, sort, limit, skip } = &**find;
                let collection = database.collection::<RawDocumentBuf>(collection);
                let mut find = collection
                    .find(filter.fill_document(self.values)?)
                    .projection(projection.fill_document(self.values)?)
                    .max_time(time)
                    .session(session);
                if let Some(sort) = sort {
                    find = find.sort(sort.fill_document(self.values)?);
                }
                if let Some(Bson::Int64(limit)) = limit.as_ref().map(|limit| limit.fill(self.values)).transpose()? {
                    find = find.limit(limit);
                }
                if let Some(Bson::Int64(skip)) = skip.as_ref().map(|skip| skip.fill(self.values)).transpose()? {
                    find = find.skip(u64::try_from(skip).unwrap_or(0));
                }
                find.await?
            }
            Form::Stages(stages) => {
                let stages = self.filled(stages)?;
                let collection = database.collection::<RawDocumentBuf>(collection);
                collection.aggregate(stages).max_time(time).with_type().session(session).await?
            }
            Form::Keyed { stages, keys } => {
                let Some(rows) = self.keys else { return Ok(None) };
                let mut all = vec![doc! { "$documents": documents(rows, keys)? }];
                all.append(&mut self.filled(stages)?);
                database.aggregate(all).max_time(time).with_type().session(session).await?
            }
        };
        Ok(Some(cursor))
    }

    fn filled(&self, stages: &[Node]) -> Result<Vec<Document>, Problem> {
        stages.iter().map(|stage| stage.fill_document(self.values)).collect()
    }
}

/// Keys as documents, each with its ordinal.
fn documents(rows: &KeyValues, conversions: &[Conversion]) -> Result<Vec<Bson>, Problem> {
    let key = |(at, row): (usize, &Vec<Datum>)| {
        let mut document = doc! { ORDINAL: i64::try_from(at + 1).unwrap_or(i64::MAX) };
        for (number, (value, conversion)) in row.iter().zip(conversions).enumerate() {
            document.insert(format!("k{number}"), conversion.operand(value)?);
        }
        Ok(Bson::Document(document))
    };
    rows.rows().iter().enumerate().map(key).collect()
}

fn unreadable() -> Problem {
    Problem::new(Code::Internal, "what the database sent is no BSON; the log has the details under the request's id")
}

/// Finds the values of outputs in a document, in one walk.
pub(super) fn collect<'d>(
    branch: &Branch,
    document: &'d RawDocument,
    found: &mut [Option<RawBsonRef<'d>>],
) -> Result<(), Problem> {
    for element in document.iter() {
        let (name, value) = element.map_err(|_| unreadable())?;
        let Some((_, below)) = branch.members.iter().find(|(known, _)| known == name.as_str()) else { continue };
        below.outputs.iter().for_each(|output| found[*output] = Some(value));
        if !below.members.is_empty()
            && let RawBsonRef::Document(inner) = value
        {
            collect(below, inner, found)?;
        }
    }
    Ok(())
}

/// Appends the cells of a row; tells how many.
pub(super) fn append(reader: &Reader, found: &[Option<RawBsonRef<'_>>], rows: &mut Rows<'_>) -> usize {
    for (delivered, value) in reader.outputs.iter().zip(found) {
        delivered.push(*value, rows);
    }
    reader.outputs.len()
}
