//! Running a mutation: one transaction, where the deployment has them, with snapshot reads.

use std::time::Instant;

use bson::raw::RawDocumentBuf;
use bson::{Bson, Document, doc, oid::ObjectId};
use mongodb::error::{ErrorKind, UNKNOWN_TRANSACTION_COMMIT_RESULT};
use mongodb::options::ReadConcern;
use puente_core::error::{Code, Detail, Problem};
use puente_core::model::{Column, ColumnId, Model, TypeId};
use puente_core::plan::change::{Assignment, JsonChange};
use puente_core::rows::Rows;
use puente_core::value::{Datum, DatumRef, Scalar};
use puente_run::change::{self, Failure, Session as Steps, Step};
use puente_run::levels::LevelReader;
use puente_run::turns::Party;
use puente_run::{ChangeRequest, Outcome, Request};

use super::condition::Lowering;
use super::connect::{Server, Session};
use super::fault;
use super::pipeline::{Command, Reader, addressed, command, reader};
use super::run::{Failed, Reading, Sent, append, begin_reading, collect};
use super::template::{Node, Slot, Values, apply, apply_to, document};
use super::values::Conversion;
use crate::attempts::{self, Transactional};
use crate::snapshots::Snapshots;

impl Transactional for Server {
    type Client = Session;

    async fn take(&self, caller: &Party, deadline: Instant) -> Result<Session, Problem> {
        self.session(caller, deadline).await
    }

    fn has_transactions(&self, client: &Session) -> bool {
        client.reached.has_transactions
    }

    async fn attempt(&self, client: &mut Session, request: &ChangeRequest) -> (Result<Outcome, Problem>, bool) {
        let mut transaction = Transaction { deadline: request.deadline, session: client, rolled_back: false };
        let result = match self.begin(&mut transaction, request).await {
            Ok(()) => change::run(&mut transaction, request).await,
            Err(problem) => Err(problem),
        };
        (result, transaction.rolled_back)
    }

    async fn cancel(&self, mut client: Session) {
        if client.in_transaction {
            let _ = client.session.abort_transaction().await;
        }
    }

    async fn roll_back(&self, client: Session) {
        self.cancel(client).await;
    }

    async fn commit(&self, mut client: Session) -> Result<(), Problem> {
        if !client.in_transaction {
            return Ok(());
        }
        client.session.commit_transaction().await.map_err(|error| {
            // Only what the server itself answers is known: an error on the way, or while the driver looks for a server
            // to ask again, may come after the commit.
            let is_answered = matches!(*error.kind, ErrorKind::Command(_));
            if is_answered && !error.contains_label(UNKNOWN_TRANSACTION_COMMIT_RESULT) {
                fault::problem(&error)
            } else {
                attempts::outcome_unknown(fault::told(&error))
            }
        })
    }
}

impl Snapshots for Server {
    async fn begin_snapshot(&self, client: &mut Session) -> Result<(), Problem> {
        begin_reading(client).await
    }

    fn reader<'r>(&'r self, client: &'r mut Session, request: &'r Request) -> impl LevelReader + Send + 'r {
        Reading::new(client, request)
    }

    fn can_ask_again(&self, _: &Session, problem: &Problem) -> bool {
        let is_lost = fault::is_lost(problem);
        if is_lost {
            self.lost();
        }
        is_lost
    }

    async fn give_back(&self, _: Session) {}
}

impl Server {
    /// Begins a transaction. Where there are none, what would need one is refused.
    async fn begin(&self, transaction: &mut Transaction<'_>, request: &ChangeRequest) -> Result<(), Problem> {
        if transaction.session.reached.has_transactions {
            let begun = transaction.session.session.start_transaction().read_concern(ReadConcern::snapshot()).await;
            begun.map_err(|error| fault::problem(&error))?;
            transaction.session.in_transaction = true;
            return Ok(());
        }
        let changes = request.mutation.roots().iter().filter_map(|root| Some((root, root.change.as_ref()?)));
        for (root, change) in changes {
            let was_known = !root.answer.plan().model().types[change.of].transactional;
            let is_allowed = self.without_transactions() || was_known;
            if request.rehearse || !change.checks.is_empty() || !is_allowed {
                let text = "the server has no transactions, so that nothing can be taken back: no rehearsal, no role with \
                    `check` or `rows`, and one document at a time, unless the source says `without_transactions = true`";
                return Err(Problem::new(Code::InvalidArgument, text));
            }
        }
        Ok(())
    }
}

/// The transaction of one mutation.
struct Transaction<'c> {
    session: &'c mut Session,
    deadline: Instant,
    /// Did the database roll it back?
    rolled_back: bool,
}

/// A step in the database's language, and how it is told.
pub(super) struct Prepared {
    work: Work,
    text: String,
}

enum Work {
    /// Documents that are read; with their key's ordinal, where they have one.
    Read(Box<Command>),
    /// Documents that are made, each of so many values, and what is delivered of them.
    Insert { collection: String, columns: Vec<(String, Conversion)>, numbers: bool, returning: Reader },
    /// What is set in the documents of some keys; the values of the keys come after those of what is set.
    Update { collection: String, stage: Node, given: usize, key: Vec<(String, Conversion)> },
    /// What is set in each of several documents: the values of its key, then of what is set.
    UpdateEach { collection: String, key: Vec<(String, Conversion)>, set: Vec<(String, Conversion)> },
    /// The documents of some keys.
    Delete { collection: String, key: Vec<(String, Conversion)> },
}

/// Columns with their names and what becomes of values for them.
fn stored(model: &Model, of: TypeId, columns: &[ColumnId]) -> Vec<(String, Conversion)> {
    let name = |column: &ColumnId| model.types[of].columns[*column].name.clone();
    columns.iter().map(|column| (name(column), Conversion::stored(model, of, *column))).collect()
}

impl Steps for Transaction<'_> {
    type Prepared = Prepared;

    fn prepare(&self, model: &Model, step: Step<'_>) -> Prepared {
        let collection = |of: TypeId| model.types[of].relation.clone();
        let (work, word) = match step {
            Step::Level(plan, select) => (Work::Read(Box::new(command(model, &plan.selects()[select]))), ""),
            Step::Find(lookup) => (Work::Read(Box::new(command(model, &lookup.select))), ""),
            Step::Address(address) => (Work::Read(Box::new(addressed(model, &address.select))), ""),
            Step::Insert { of, columns, returning, .. } => {
                let key = model.types[of].column_named("_id");
                let numbers = key.is_some_and(|key| {
                    !columns.contains(&key) && model.types[of].columns[key].scalar() == Some(Scalar::ObjectId)
                });
                let columns = stored(model, of, columns);
                let returning = reader(model, of, returning);
                (Work::Insert { collection: collection(of), columns, numbers, returning }, "insert")
            }
            Step::Update { of, set, key, .. } => {
                let (stage, given) = update(model, of, set);
                let key = stored(model, of, key);
                (Work::Update { collection: collection(of), stage, given, key }, "update")
            }
            Step::UpdateEach { of, set, key, .. } => {
                let (key, set) = (stored(model, of, key), stored(model, of, set));
                (Work::UpdateEach { collection: collection(of), key, set }, "update")
            }
            Step::Delete { of, key, .. } => {
                (Work::Delete { collection: collection(of), key: stored(model, of, key) }, "delete")
            }
        };
        let text = match &work {
            Work::Read(command) => command.text(),
            Work::Update { collection, stage, .. } => {
                let mut told = format!("{collection}.{word}(keys, [");
                stage.tell(&mut told);
                told.push_str("])");
                told
            }
            Work::Insert { collection, columns, .. } | Work::UpdateEach { collection, set: columns, .. } => {
                let names: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
                format!("{collection}.{word}({})", names.join(", "))
            }
            Work::Delete { collection, .. } => format!("{collection}.{word}(keys)"),
        };
        Prepared { work, text }
    }

    fn text(prepared: &Prepared) -> &str {
        &prepared.text
    }

    async fn run(
        &mut self,
        prepared: &Prepared,
        values: change::Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        let mut rows = Rows::default();
        rows.clear(scalars.len());
        match &prepared.work {
            Work::Read(command) => self.read(command, values, scalars.len(), &mut rows).await?,
            Work::Insert { collection, columns, numbers, returning } => {
                let documents = made(columns, *numbers, values.given)?;
                for document in &documents {
                    let raw = RawDocumentBuf::try_from(document).map_err(|_| unwritable())?;
                    let mut found = vec![None; returning.outputs.len()];
                    collect(&returning.root, &raw, &mut found)?;
                    append(returning, &found, &mut rows);
                }
                self.write(doc! { "insert": collection, "documents": documents }).await?;
            }
            Work::Update { collection, stage, given, key } => {
                let filled = stage.fill_document(&OfStep(values))?;
                let which = keyed(key, &values.given[*given..])?;
                self.write(doc! { "update": collection, "updates": [{ "q": which, "u": [filled], "multi": true }] })
                    .await?;
            }
            Work::UpdateEach { collection, key, set } => {
                let width = key.len() + set.len();
                let updates = values.given.chunks(width).map(|row| {
                    let (own, values) = row.split_at(key.len());
                    let set = set.iter().zip(values).map(|((name, conversion), value)| {
                        Ok((name.clone(), Bson::Document(doc! { "$literal": conversion.value(value)? })))
                    });
                    let set = set.collect::<Result<Document, Problem>>()?;
                    Ok(Bson::Document(doc! { "q": keyed(key, own)?, "u": [{ "$set": set }] }))
                });
                let updates = updates.collect::<Result<Vec<Bson>, Problem>>()?;
                self.write(doc! { "update": collection, "updates": updates }).await?;
            }
            Work::Delete { collection, key } => {
                let which = keyed(key, values.given)?;
                self.write(doc! { "delete": collection, "deletes": [{ "q": which, "limit": 0 }] }).await?;
            }
        }
        Ok(rows)
    }

    fn rows_per_insert(&self, _: usize) -> usize {
        const ROWS: usize = 1_000;
        ROWS
    }

    fn sets_rows_together(&self, _: &[&Column]) -> bool {
        true
    }
}

/// The values of a step.
struct OfStep<'v>(change::Values<'v>);

impl Values for OfStep<'_> {
    fn parameter(&self, number: usize) -> &Datum {
        self.0.bound.value(number)
    }

    fn given(&self, number: usize) -> &Datum {
        self.0.given.get(number).unwrap_or(&Datum::Null)
    }
}

impl Transaction<'_> {
    async fn read(
        &mut self,
        command: &Command,
        values: change::Values<'_>,
        width: usize,
        into: &mut Rows<'static>,
    ) -> Result<(), Failure> {
        let of_step = OfStep(values);
        let sent = Sent {
            command,
            values: &of_step,
            keys: values.keys,
            time: self.deadline.saturating_duration_since(Instant::now()),
            most_bytes: values.most_bytes,
        };
        let Session { session, reached, .. } = &mut *self.session;
        let read = sent.read(&reached.database, session, |ordinal, cells| {
            let mut pushed = 0;
            if let Some(ordinal) = ordinal {
                into.push(DatumRef::Integer(ordinal));
                pushed += 1;
            }
            pushed += cells(into);
            (pushed..width).for_each(|_| into.push(DatumRef::Null));
            Ok(())
        });
        read.await.map_err(|failed| self.failed(failed))
    }

    fn failed(&mut self, failed: Failed) -> Failure {
        if let Failed::Database(error) = &failed {
            self.rolled_back |= fault::is_rolled_back(error);
        }
        Failure::Problem(failed.problem())
    }

    /// Sends a command that writes. What a collection does not take is told by the first document that it does not.
    async fn write(&mut self, mut command: Document) -> Result<(), Failure> {
        let time = self.deadline.saturating_duration_since(Instant::now()).as_millis().max(1);
        command.insert("maxTimeMS", i64::try_from(time).unwrap_or(i64::MAX));
        if !self.session.in_transaction {
            command.insert("writeConcern", doc! { "w": "majority" });
        }
        let Session { session, reached, .. } = &mut *self.session;
        let told = reached.database.run_command(command).session(session).await;
        let told = match told {
            Ok(told) => told,
            Err(error) => {
                let refusal = fault::refused(&error);
                return Err(match refusal {
                    Some(refusal) => Failure::Refused(refusal),
                    None => self.failed(Failed::Database(error)),
                });
            }
        };
        let first = told.get_array("writeErrors").ok().and_then(|errors| errors.first()?.as_document());
        match first {
            None => match told.get("writeConcernError") {
                None => Ok(()),
                // Written, but perhaps not by enough members of the replica set to last.
                Some(error) => {
                    let detail = Detail::with_words("a write concern was not met", error);
                    Err(Failure::Problem(attempts::outcome_unknown(detail)))
                }
            },
            Some(error) => Err(match fault::refusal(error) {
                Some(refusal) => Failure::Refused(refusal),
                None => {
                    let text = "the database did not take the change; the log has the details under the request's id";
                    let code = error.get_i32("code").unwrap_or_default();
                    let detail = Detail::with_words(format_args!("a write failed ({code})"), error);
                    Failure::Problem(Problem::new(Code::Internal, text).with_detail(detail))
                }
            }),
        }
    }
}

fn unwritable() -> Problem {
    Problem::new(Code::ValueRefused, fault::NO_BSON)
}

/// The documents of rows of so many values. What has no key is given one.
fn made(columns: &[(String, Conversion)], numbers: bool, given: &[Datum]) -> Result<Vec<Document>, Problem> {
    let row = |row: &[Datum]| {
        let mut document = Document::new();
        if numbers {
            document.insert("_id", ObjectId::new());
        }
        for ((name, conversion), value) in columns.iter().zip(row) {
            document.insert(name.clone(), conversion.value(value)?);
        }
        Ok(document)
    };
    if columns.is_empty() { Ok(vec![row(&[])?]) } else { given.chunks(columns.len()).map(row).collect() }
}

/// The filter that finds the documents of some keys.
fn keyed(key: &[(String, Conversion)], values: &[Datum]) -> Result<Document, Problem> {
    if let [(name, conversion)] = key {
        let values = values.iter().map(|value| conversion.operand(value)).collect::<Result<Vec<Bson>, Problem>>()?;
        return Ok(match values.as_slice() {
            [only] => doc! { name: only.clone() },
            _ => doc! { name: { "$in": values } },
        });
    }
    let one = |values: &[Datum]| {
        let members =
            key.iter().zip(values).map(|((name, conversion), value)| Ok((name.clone(), conversion.operand(value)?)));
        members.collect::<Result<Document, Problem>>().map(Bson::Document)
    };
    Ok(doc! { "$or": values.chunks(key.len()).map(one).collect::<Result<Vec<Bson>, Problem>>()? })
}

/// The stage that sets columns, and how many values it takes.
fn update(model: &Model, of: TypeId, set: &[(ColumnId, Assignment)]) -> (Node, usize) {
    let mut changing = Changing { lowering: Lowering::new(model), next: 0 };
    let mut members = Vec::new();
    for (column, assigned) in set {
        let name = &model.types[of].columns[*column].name;
        let own = format!("${name}");
        let value = match assigned {
            Assignment::Value(_) => changing.given(Conversion::stored(model, of, *column)),
            Assignment::Add(_) => {
                let number = changing.given(Conversion::stored(model, of, *column));
                sum(&own, number)
            }
            Assignment::Json(change) => changing.part(&own, (of, *column), change),
        };
        members.push((name.clone(), value));
    }
    (apply("$set", Node::Document(members)), changing.next)
}

/// A number and another; what is no number stays as it is.
fn sum(own: &str, number: Node) -> Node {
    let added = apply_to("$add", [own.into(), number]);
    apply_to("$cond", [apply("$isNumber", own), added, own.into()])
}

/// Values that are changed, and the number of the next value that is given.
struct Changing<'m> {
    lowering: Lowering<'m>,
    next: usize,
}

impl Changing<'_> {
    fn given(&mut self, conversion: Conversion) -> Node {
        self.next += 1;
        apply("$literal", Node::Bound(Slot::Given(self.next - 1, conversion)))
    }

    /// What the part of a document at `own` becomes, which is the value of a column or a member.
    fn part(&mut self, own: &str, (of, column): (TypeId, ColumnId), change: &JsonChange) -> Node {
        let model = self.lowering.model;
        let is_list = || apply("$isArray", vec![own.into()]);
        match change {
            JsonChange::Set(_) => self.given(Conversion::json(model, of, column)),
            // Only members can be taken away.
            JsonChange::Unset => own.into(),
            JsonChange::Add(_, scalar) => {
                let number = self.given(Conversion::Scalar(*scalar));
                sum(own, number)
            }
            JsonChange::Push(_) => {
                let items = self.given(Conversion::json(model, of, column));
                let list = apply_to("$cond", [is_list(), own.into(), Vec::new().into()]);
                apply_to("$concatArrays", [list, items])
            }
            JsonChange::Pull(_) => {
                let items = self.given(Conversion::json(model, of, column));
                let is_kept = apply("$not", vec![apply_to("$in", ["$$item".into(), items])]);
                let kept = document([("input", own.into()), ("as", "item".into()), ("cond", is_kept)]);
                apply_to("$cond", [is_list(), apply("$filter", kept), own.into()])
            }
            JsonChange::PullWhere(items, condition) => {
                let (variable, is_pulled) = self.lowering.about_item(*items, condition);
                let is_kept = apply("$not", vec![is_pulled]);
                let kept = document([("input", own.into()), ("as", variable.into()), ("cond", is_kept)]);
                apply_to("$cond", [is_list(), apply("$filter", kept), own.into()])
            }
            JsonChange::Object(members) => {
                let is_object = apply_to("$eq", [apply("$type", own), "object".into()]);
                let mut object =
                    apply_to("$cond", [is_object, own.into(), apply("$literal", Node::Document(Vec::new()))]);
                let (mut gone, mut set) = (Vec::new(), Vec::new());
                for (name, change) in members {
                    if *change == JsonChange::Unset {
                        gone.push(Node::from(name.as_str()));
                        continue;
                    }
                    let place = format!("{own}.{name}");
                    let is_meant = |(_, c): &(ColumnId, &Column)| {
                        c.member.as_ref().and_then(|member| member.path.last()).is_some_and(|last| last == name)
                    };
                    let member = model.types[of].members(column).find(is_meant).map_or(column, |(id, _)| id);
                    let value = self.part(&place, (of, member), change);
                    let value = match change {
                        JsonChange::Set(_) | JsonChange::Push(_) | JsonChange::Object(_) | JsonChange::Unset => value,
                        // What is not there is not made.
                        JsonChange::Add(..) | JsonChange::Pull(_) | JsonChange::PullWhere(..) => {
                            let is_there = apply_to("$ne", [apply("$type", place), "missing".into()]);
                            apply_to("$cond", [is_there, value, "$$REMOVE".into()])
                        }
                    };
                    set.push((name.clone(), value));
                }
                // All members at once: a step for each would be as deep as there are members.
                if !gone.is_empty() {
                    let is_kept = apply("$not", vec![apply_to("$in", ["$$member.k".into(), gone.into()])]);
                    let all = apply("$objectToArray", object);
                    let kept = document([("input", all), ("as", "member".into()), ("cond", is_kept)]);
                    object = apply("$arrayToObject", vec![apply("$filter", kept)]);
                }
                if !set.is_empty() {
                    object = apply_to("$mergeObjects", [object, Node::Document(set)]);
                }
                object
            }
        }
    }
}
