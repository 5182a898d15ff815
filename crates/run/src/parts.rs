//! A plan over several sources: cut into parts, one for each source, which are read level by level. What hangs on rows of another
//! source is read once their keys are there; what hangs on nothing is read at the same time.

use std::sync::Arc;
use std::time::Instant;

use futures_util::future::join_all;
use puente_core::answer::{self, KeyValues, LevelRows, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{BoundPlan, KeyQuery, Plan, SelectId};
use puente_core::rows::check_held;

use crate::change::combined;
use crate::snapshot::{LevelRead, Snapshot};
use crate::turns::Party;
use crate::{Outcome, Prepared, Request, Rest, RootAnswer, Source, StatementReport};

/// Keys that one statement takes at most, where they come from another source.
const KEYS_PER_STATEMENT: usize = 1_000;

/// What one source has to do with a plan.
#[derive(Debug, Clone)]
pub struct Part {
    /// The source's number in the model.
    pub source: SourceId,
    /// The source.
    pub connector: Source,
    /// What it made of the plan.
    pub prepared: Arc<dyn Prepared>,
}

/// One plan to run over several sources.
#[derive(Debug)]
pub struct SplitRequest {
    /// The plan with its values.
    pub bound: BoundPlan,
    /// Its parts, in the order of the sources.
    pub parts: Arc<[Part]>,
    /// As which role.
    pub role: String,
    /// Whose turn it is.
    pub party: Party,
    /// The most bytes of the answer.
    pub most_bytes: usize,
    /// When the databases give up.
    pub deadline: Instant,
    /// Measure each statement and report its text?
    pub timed: bool,
}

impl SplitRequest {
    /// What one of the sources is asked.
    pub fn of(&self, part: &Part) -> Request {
        let (bound, parts, role, party) =
            (self.bound.clone(), Arc::clone(&self.parts), self.role.clone(), self.party.clone());
        SplitRequest { bound, parts, role, party, ..*self }.into_one(part)
    }

    /// What a source is asked that has all of the plan.
    pub fn into_one(self, part: &Part) -> Request {
        let SplitRequest { bound, role, party, most_bytes, deadline, timed, .. } = self;
        let prepared = Arc::clone(&part.prepared);
        Request { bound, prepared, source: part.source, role, party, most_bytes, deadline, timed }
    }
}

/// Runs a plan over its sources, and writes its answer. Each source's reads see one snapshot; there is none over several. What a
/// source that is away should have given is an error there, and the rest is answered.
///
/// # Errors
/// What a source reports, beside being away; `TOO_COSTLY` where a filter finds too many keys in another source.
pub async fn answer(request: &SplitRequest) -> Result<Outcome, Problem> {
    let mut levels = Levels::new(request.bound.plan());
    let Read { statements, away } = read(request, &mut levels, &|_| false).await?;
    let plan = request.bound.plan();
    let answer = answer::write(&request.bound, &mut levels.fetch(plan), request.most_bytes)?;
    Ok(Outcome { away, ..Outcome::new(answer, statements) })
}

/// Reads what a mutation that is done answers of other sources. What cannot be read is an error there: the change is done.
pub async fn finish(outcome: Outcome, request: &dyn Fn(BoundPlan) -> SplitRequest) -> Outcome {
    let Outcome { answer, mut statements, rest, mut away, cost } = outcome;
    let Some(Rest { roots }) = rest else { return Outcome { away, cost, ..Outcome::new(answer, statements) } };
    let mut answers = Vec::with_capacity(roots.len());
    let mut most_bytes = usize::MAX;
    for RootAnswer { written, open } in roots {
        let Some((bound, mut levels)) = open else {
            answers.push(written);
            continue;
        };
        let request = request(bound);
        most_bytes = request.most_bytes;
        let plan = request.bound.plan();
        levels.forget_failures();
        match read(&request, &mut levels, &|select| !plan.is_beyond_crossing(select)).await {
            Ok(more) => {
                statements.extend(more.statements);
                away.extend(more.away);
            }
            Err(problem) => {
                let unread = (0..plan.selects().len()).filter(|select| plan.is_beyond_crossing(*select));
                unread.for_each(|select| levels.fail(select, problem.clone()));
            }
        }
        answers.push(answer::write(&request.bound, &mut levels.fetch(plan), request.most_bytes).unwrap_or(written));
    }
    let whole = combined(answers.iter());
    let answer = if whole.body.len() <= most_bytes { whole } else { answer };
    Outcome { away, cost, ..Outcome::new(answer, statements) }
}

/// What was read: the rows are in the levels.
struct Read {
    statements: Vec<StatementReport>,
    away: Vec<SourceId>,
}

/// Reads every select of a plan but those of which `is_there` is true, whose rows the levels have.
///
/// # Errors
/// As [`answer`].
async fn read(
    request: &SplitRequest,
    levels: &mut Levels<'static>,
    is_there: &dyn Fn(SelectId) -> bool,
) -> Result<Read, Problem> {
    let plan = request.bound.plan();
    let stages = stages(plan);
    let mut reading = Reading {
        request,
        stages: &stages,
        snapshots: request.parts.iter().map(|_| Held::NotYet).collect(),
        failed: vec![None; plan.selects().len()],
        statements: Vec::new(),
    };
    let is_asked = |select: SelectId| plan.runs(select) && !is_there(select);
    if !reading.visits_once(&is_asked) {
        reading.open_all(&is_asked).await?;
    }
    for stage in 0..=stages.iter().copied().max().unwrap_or(0) {
        let asked: Vec<SelectId> =
            (0..plan.selects().len()).filter(|select| stages[*select] == stage && is_asked(*select)).collect();
        let needed = reading.needed_after(stage, &is_asked);
        reading.stage(asked, &needed, levels).await?;
        levels.check_size(request.most_bytes)?;
    }
    let is_away = |at: &usize| matches!(reading.snapshots[*at], Held::Away(_));
    let away = (0..request.parts.len()).filter(is_away).map(|at| request.parts[at].source).collect();
    Ok(Read { statements: reading.statements, away })
}

/// When each select can be read: after its parent, and after the key queries that it needs.
fn stages(plan: &Plan) -> Vec<usize> {
    let mut stages: Vec<usize> = Vec::with_capacity(plan.selects().len());
    for (id, select) in plan.selects().iter().enumerate() {
        let after = |other: SelectId| stages[other] + 1;
        let needed = select.needs.iter().map(|query| after(plan.key_queries()[*query].select));
        let stage = match &select.parent {
            // Rows that are joined come with their parent's.
            Some(parent) if plan.is_joined(id) => stages[parent.select],
            Some(parent) => after(parent.select),
            None => 0,
        };
        stages.push(needed.chain([stage]).max().unwrap_or(0));
    }
    stages
}

/// The snapshot of a part.
enum Held {
    /// Nothing was read of it so far.
    NotYet,
    Open(Snapshot),
    /// All of it was read.
    Over,
    /// The source is away.
    Away(Problem),
}

struct Reading<'r> {
    request: &'r SplitRequest,
    stages: &'r [usize],
    snapshots: Vec<Held>,
    /// Why the rows of each select could not be read.
    failed: Vec<Option<Problem>>,
    statements: Vec<StatementReport>,
}

/// What one select is asked, in statements of so many keys.
struct Asked {
    select: SelectId,
    keys: Vec<Option<KeyValues>>,
}

impl Reading<'_> {
    fn plan(&self) -> &Plan {
        self.request.bound.plan()
    }

    fn part_of(&self, select: SelectId) -> Option<usize> {
        let source = self.plan().source_of(select);
        self.request.parts.iter().position(|part| part.source == source)
    }

    /// Is every source read in one stage? Then nothing is held while something else is waited for.
    fn visits_once(&self, is_asked: &dyn Fn(SelectId) -> bool) -> bool {
        let mut visited: Vec<Option<usize>> = vec![None; self.request.parts.len()];
        (0..self.stages.len()).filter(|select| is_asked(*select)).all(|select| {
            let Some(part) = self.part_of(select) else { return true };
            *visited[part].get_or_insert(self.stages[select]) == self.stages[select]
        })
    }

    /// Opens a snapshot of every source that is read, in the order of the sources: so no two requests wait for what the other one holds.
    async fn open_all(&mut self, is_asked: &dyn Fn(SelectId) -> bool) -> Result<(), Problem> {
        let read = self.parts_of((0..self.stages.len()).filter(|select| is_asked(*select)));
        for (at, part) in self.request.parts.iter().enumerate().filter(|(at, _)| read[*at]) {
            let mut snapshot = part.connector.snapshot(self.request.of(part));
            self.snapshots[at] = match snapshot.opened().await {
                Ok(()) => Held::Open(snapshot),
                Err(problem) if is_away(&problem) => Held::Away(self.named(part.source, problem)),
                Err(problem) => return Err(problem),
            };
        }
        Ok(())
    }

    /// Which parts are read after a stage, too.
    fn needed_after(&self, stage: usize, is_asked: &dyn Fn(SelectId) -> bool) -> Vec<bool> {
        self.parts_of((0..self.stages.len()).filter(|select| self.stages[*select] > stage && is_asked(*select)))
    }

    /// Of which parts some selects are.
    fn parts_of(&self, selects: impl Iterator<Item = SelectId>) -> Vec<bool> {
        let mut parts = vec![false; self.request.parts.len()];
        selects.filter_map(|select| self.part_of(select)).for_each(|part| parts[part] = true);
        parts
    }

    /// Reads the selects of one stage, those of different sources at the same time. What is not needed later is let go of at
    /// once: whoever waits for one source holds none that it is done with.
    async fn stage(
        &mut self,
        asked: Vec<SelectId>,
        needed: &[bool],
        levels: &mut Levels<'static>,
    ) -> Result<(), Problem> {
        let mut of_parts: Vec<Vec<Asked>> = self.request.parts.iter().map(|_| Vec::new()).collect();
        for select in asked {
            let Some(part) = self.part_of(select) else { continue };
            let has_parent = self.plan().selects()[select].parent.is_some();
            let keys = levels.keys(self.plan(), select);
            if has_parent && keys.is_empty() {
                continue;
            }
            if let Some(problem) = self.why_not(select, part) {
                self.fail(select, problem, levels);
                continue;
            }
            let keys = match has_parent {
                true => self.chunks(select, keys).into_iter().map(Some).collect(),
                false => vec![None],
            };
            of_parts[part].push(Asked { select, keys });
        }
        for (at, asked) in of_parts.iter().enumerate() {
            if !asked.is_empty() && matches!(self.snapshots[at], Held::NotYet) {
                let part = &self.request.parts[at];
                self.snapshots[at] = Held::Open(part.connector.snapshot(self.request.of(part)));
            }
        }
        let most_bytes = self.request.most_bytes;
        let held = std::mem::take(&mut self.snapshots);
        let reads = of_parts.into_iter().zip(held).zip(needed).map(|((asked, held), needed)| async move {
            let (read, problem) = read_part(&held, asked, most_bytes).await;
            let is_done = !needed && matches!(held, Held::Open(_));
            (if is_done { Held::Over } else { held }, read, problem)
        });
        for (at, (held, read, problem)) in join_all(reads).await.into_iter().enumerate() {
            self.snapshots.push(held);
            for (select, first_key, level) in read {
                self.statements.extend(level.statements);
                self.keep(select, first_key, level.rows, levels)?;
            }
            match problem {
                None => {}
                Some((selects, problem)) if is_away(&problem) => {
                    let problem = self.named(self.request.parts[at].source, problem);
                    self.snapshots[at] = Held::Away(problem.clone());
                    selects.into_iter().for_each(|select| self.fail(select, problem.clone(), levels));
                }
                Some((_, problem)) => return Err(problem),
            }
        }
        Ok(())
    }

    /// What another source has to be asked first, or was asked in vain.
    fn why_not(&self, select: SelectId, part: usize) -> Option<Problem> {
        let node = &self.plan().selects()[select];
        let above = |of: SelectId| self.failed[of].clone();
        let needed = node.needs.iter().find_map(|query| above(self.plan().key_queries()[*query].select));
        let away = || if let Held::Away(away) = &self.snapshots[part] { Some(away.clone()) } else { None };
        needed.or_else(away)
    }

    fn fail(&mut self, select: SelectId, problem: Problem, levels: &mut Levels<'static>) {
        levels.fail(select, problem.clone());
        self.failed[select] = Some(problem);
    }

    fn chunks(&self, select: SelectId, keys: KeyValues) -> Vec<KeyValues> {
        if self.plan().crosses(select) { keys.chunks(KEYS_PER_STATEMENT) } else { vec![keys] }
    }

    /// Keeps rows: those of a key query as the keys that they are.
    fn keep(
        &self,
        select: SelectId,
        first_key: usize,
        rows: LevelRows,
        levels: &mut Levels<'static>,
    ) -> Result<(), Problem> {
        let query = self.plan().key_queries().iter().enumerate().find(|(_, query)| query.select == select);
        match query {
            Some((number, query)) => self.supply(number, query, &rows),
            None => {
                levels.put(select, rows, first_key);
                Ok(())
            }
        }
    }

    fn supply(&self, number: usize, query: &KeyQuery, found: &LevelRows) -> Result<(), Problem> {
        let (plan, rows) = (self.plan(), found.rows());
        let of = &plan.model().types[query.of];
        let from = &plan.model().types[plan.selects()[query.select].of];
        if rows.len() > query.most as usize {
            let text = format!(
                "the filter of `{}` finds over {} keys of `{}` in another source, the limit of `cross_keys` in `[limits]`; \
                 narrow the filter",
                of.name, query.most, from.name
            );
            return Err(Problem::new(Code::TooCostly, text));
        }
        let (from, to) = (&from.columns[query.from], &of.columns[query.column]);
        let keys = (0..rows.len()).filter_map(|at| to.key_of(plan.model(), from, rows.row(at).cell(0)));
        self.request.bound.supply_keys(number, keys.collect());
        Ok(())
    }

    /// The problem of a source that is away, with its name: the others are not.
    fn named(&self, source: SourceId, problem: Problem) -> Problem {
        problem.of_source(&self.plan().model().sources[source])
    }
}

/// Is it an error of one source alone, while the others answer?
fn is_away(problem: &Problem) -> bool {
    matches!(problem.code, Code::SourceUnavailable | Code::SourceDrifted | Code::Contention)
}

type ReadLevels = Vec<(SelectId, usize, LevelRead)>;

/// Reads the selects of one part, one after the other; those from the first on that failed come with the problem.
async fn read_part(
    held: &Held,
    asked: Vec<Asked>,
    most_bytes: usize,
) -> (ReadLevels, Option<(Vec<SelectId>, Problem)>) {
    let (mut read, mut weight) = (Vec::new(), 0);
    let Held::Open(snapshot) = held else { return (read, None) };
    let mut asked = asked.into_iter();
    while let Some(Asked { select, keys }) = asked.next() {
        let mut first_key = 0;
        for keys in keys {
            let next_key = first_key + keys.as_ref().map_or(0, |keys| keys.rows().len());
            let level = snapshot.read(select, keys).await.and_then(|level: LevelRead| {
                weight += level.rows.rows().weight();
                check_held(weight, most_bytes).map(|()| level)
            });
            match level {
                Ok(level) => read.push((select, first_key, level)),
                Err(problem) => {
                    let selects = std::iter::once(select).chain(asked.map(|asked| asked.select)).collect();
                    return (read, Some((selects, problem)));
                }
            }
            first_key = next_key;
        }
    }
    (read, None)
}
