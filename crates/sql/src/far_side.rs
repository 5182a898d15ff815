//! Conditions over links, found from the far side: `customer_id in (select id from customers where …)` where
//! `exists (select 1 from customers where id = customer_id and …)` would be asked of every row.
//!
//! Neither way is the better one for every request. A page whose condition most rows satisfy is full after a few rows, where the far
//! side would be read as a whole; a page whose condition hardly any row satisfies reads the whole table, where the far side has the
//! few. Engines with statistics choose between them. For the others
//! ([`Dialect::chooses_sides_blindly`](super::Dialect::chooses_sides_blindly)) the statement itself looks at the first candidates
//! ([`Sample`]), and goes the way that these tell.

use puente_core::access::{Condition, Hop, Operand, Path, Quantifier, Test};
use puente_core::model::{ColumnId, Model, TypeId};
use puente_core::plan::{RowSet, Select};
use puente_core::value::StorageFormat;

use super::Fragment;
use super::from::{Beyond, Scope, Writer};
use super::select::{Clauses, Correlation};

/// Rows from which a table is worth a choice; fewer are read in no time on either way.
const LARGE: u64 = 100_000;
/// Rows of a table of which nobody knows how many it has.
const UNKNOWN_ROWS: u64 = 1_000_000;
/// Candidates of a sample, if one costs as much as a look at one row.
const MOST_CANDIDATES: u64 = 2_000;
/// Candidates of a sample at least.
const FEWEST_CANDIDATES: u64 = 20;
/// Rows that a sample may look at.
const SAMPLE_COST: u64 = 4_000;
/// About how many rows a page has.
const PAGE: u64 = 50;
/// How many rows a scan reads while an index finds one.
const SCAN_GAIN: u64 = 8;
/// The share of candidates, in tenths, which find a row at the end of a link so soon that each had better look for itself.
const MOST: u64 = 9;
/// A far side with fewer rows than the table by this factor is always read as a whole.
const NEGLIGIBLE: u64 = 100;

/// The way in which conditions over links are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) enum Way {
    /// From each row along the link.
    #[default]
    FromRow,
    /// From the far side, for a page: but from each row that there is *no* such row at the end of a link. Where nearly every row has
    /// none the page is soon full, and where nearly every row has some the first is soon found.
    PageFromFarSide,
    /// From the far side.
    FromFarSide,
    /// Statements about the rows at the end of a link by what the sample told, the others from the row: where all rows are summed
    /// up, engines choose the order of joins well.
    AsSampled,
}

/// What the statement's sample tells: is the far side the better one? 1 or 0.
const SAMPLE: &str = "(select far_side from sample)";

/// How the statement of a root select goes about its conditions over links.
#[derive(Debug, PartialEq)]
pub(super) enum Choice {
    /// From the far side, whatever the rows are.
    FarSide,
    /// What a sample tells.
    Sampled(Sample),
}

/// The first candidates: rows that satisfy every condition that is not over a link. The far side is the better one where there are
/// that many of them, and fewer than `wanted` satisfy the others, too.
#[derive(Debug, PartialEq)]
pub(super) struct Sample {
    /// How many are looked at.
    candidates: u64,
    /// What is asked of them.
    asked: Vec<Condition>,
    /// How many of them have to satisfy that; none where the far side is the better one in any case.
    wanted: Option<u64>,
}

/// A hop over a link in a condition.
struct Reach<'c> {
    hop: &'c Hop,
    /// What is stated of the rows at its end; of a hop to one, nothing.
    quantifier: Option<(Quantifier, &'c Condition)>,
}

impl Reach<'_> {
    /// Is there some row at the end of the link that decides a statement about them, so that no other is looked at?
    fn is_decided(&self) -> Option<Condition> {
        let (quantifier, inner) = self.quantifier?;
        let quantifier = if says_none(quantifier) { quantifier.negated() } else { quantifier };
        let (hop, inner) = (self.hop.clone(), Box::new(inner.clone()));
        Some(Condition::Quantified { before: Vec::new(), hop, quantifier, inner })
    }
}

/// The choice for a select's conditions; none where nothing is to be chosen.
pub(super) fn choose(model: &Model, select: &Select) -> Option<Choice> {
    let t = &model.types[select.of];
    let is_page = match &select.row_set {
        RowSet::Page { .. } => true,
        RowSet::Aggregate | RowSet::Groups { .. } => false,
        RowSet::Single | RowSet::Supplied => return None,
    };
    if select.parent.is_some() || t.items_of.is_some() {
        return None;
    }
    let mut reaches = Vec::new();
    for predicate in &select.predicates {
        collect(&predicate.condition, &mut reaches);
    }
    reaches.retain(|reach| (is_page || reach.quantifier.is_some()) && can_be_found(model, reach.hop));
    let rows = rows_of(model, select.of);
    let far = |reach: &Reach<'_>| {
        let link = &model.types[reach.hop.from].links[reach.hop.link];
        link.through.as_ref().map_or(link.target, |through| through.join)
    };
    let is_large = |reach: &Reach<'_>| rows.max(rows_of(model, far(reach))) >= LARGE;
    if !reaches.iter().any(is_large) {
        return None;
    }
    // Without an index every candidate would cost as much as the whole far side does once.
    let is_unindexed = |reach: &Reach<'_>| {
        let link = &model.types[reach.hop.from].links[reach.hop.link];
        let pairs = link.through.as_ref().map_or(&link.pairs, |through| &through.near);
        let columns: Vec<ColumnId> = pairs.iter().map(|(_, column)| *column).collect();
        !model.types[far(reach)].is_indexed(&columns)
    };
    if reaches.iter().any(is_unindexed) {
        return Some(Choice::FarSide);
    }
    reaches.retain(|reach| !is_page || !reach.quantifier.is_some_and(|(quantifier, _)| says_none(quantifier)));
    if reaches.is_empty() {
        return None;
    }
    // What one candidate costs, and what the far sides do.
    let each = |reach: &Reach<'_>| {
        if reach.quantifier.is_some() { (rows_of(model, far(reach)) / rows.max(1)).max(1) } else { 1 }
    };
    let cost = reaches.iter().map(each).max().unwrap_or(1);
    let quantified: Vec<u64> =
        reaches.iter().filter(|reach| reach.quantifier.is_some()).map(|reach| rows_of(model, far(reach))).collect();
    let candidates = (SAMPLE_COST / cost).clamp(FEWEST_CANDIDATES, MOST_CANDIDATES);
    if !is_page {
        if quantified.iter().sum::<u64>() <= rows / NEGLIGIBLE {
            return Some(Choice::FarSide);
        }
        let asked = vec![Condition::Or(reaches.iter().filter_map(Reach::is_decided).collect())];
        return Some(Choice::Sampled(Sample { candidates, asked, wanted: Some((candidates * MOST / 10).max(1)) }));
    }
    // An order that no index gives reads every candidate in any case.
    let order: Vec<ColumnId> = select.order.iter().map(|term| term.path.column).collect();
    let streams = select.order.iter().all(|term| term.path.hops.is_empty())
        && order.first().is_some_and(|first| t.is_indexed(&[*first]));
    // From the row a page costs PAGE / share candidates; the far side costs a scan, or as many rows as the share is of all. The share
    // at which both cost the same, in millionths:
    let share = if quantified.is_empty() {
        (1_000_000_000_000 / rows.max(1)).saturating_mul(PAGE).isqrt()
    } else {
        1_000_000_u64.saturating_mul(PAGE * cost) / (quantified.iter().sum::<u64>() / SCAN_GAIN).max(1)
    };
    let wanted = (candidates.saturating_mul(share) / 1_000_000 + 1).clamp(1, candidates);
    let asked = conjuncts(select).into_iter().filter(|part| is_over_link(part)).cloned().collect();
    Some(Choice::Sampled(Sample { candidates, asked, wanted: streams.then_some(wanted) }))
}

/// Does a quantifier say that there is no such row?
pub(super) fn says_none(quantifier: Quantifier) -> bool {
    match quantifier {
        Quantifier::All | Quantifier::None => true,
        Quantifier::Exists | Quantifier::ExistsFalse => false,
    }
}

fn rows_of(model: &Model, of: TypeId) -> u64 {
    model.types[of].about_rows.unwrap_or(UNKNOWN_ROWS)
}

/// Hops of a condition that can be found from the far side, where only its truth counts.
fn collect<'c>(condition: &'c Condition, reaches: &mut Vec<Reach<'c>>) {
    match condition {
        Condition::And(parts) | Condition::Or(parts) => parts.iter().for_each(|part| collect(part, reaches)),
        Condition::NotTrue(inner) => collect(inner, reaches),
        Condition::Not(inner) => match &**inner {
            Condition::Quantified { before, hop, quantifier, inner } if before.is_empty() => {
                reaches.push(Reach { hop, quantifier: Some((quantifier.negated(), inner)) });
            }
            inner => reaches.extend(first_hop(inner, true).map(|hop| Reach { hop, quantifier: None })),
        },
        Condition::Quantified { before, hop, quantifier, inner } if before.is_empty() => {
            reaches.push(Reach { hop, quantifier: Some((*quantifier, inner)) });
        }
        Condition::Test { .. } | Condition::Quantified { .. } => {
            reaches.extend(first_hop(condition, false).map(|hop| Reach { hop, quantifier: None }));
        }
        Condition::Constant(_)
        | Condition::ClaimPredicate(_)
        | Condition::Numbers { .. }
        | Condition::OverItems { .. } => {}
    }
}

/// Does a condition hold some hop over a link, wherever?
fn is_over_link(condition: &Condition) -> bool {
    let mut reaches = Vec::new();
    collect(condition, &mut reaches);
    !reaches.is_empty()
}

/// Can the rows at a link's far end be found by the values of its columns alone: plain columns that both sides compare alike?
fn can_be_found(model: &Model, hop: &Hop) -> bool {
    let link = &model.types[hop.from].links[hop.link];
    let far = link.through.as_ref().map_or(link.target, |through| through.join);
    let pairs = link.through.as_ref().map_or(&link.pairs, |through| &through.near);
    let is_plain = |of: TypeId, column: ColumnId| {
        let column = &model.types[of].columns[column];
        column.member.is_none() && column.form != StorageFormat::JsonValue
    };
    let collation = |of: TypeId, column: ColumnId| &model.types[of].columns[column].collation;
    model.types[hop.from].items_of.is_none()
        && model.types[link.target].items_of.is_none()
        && !link.crosses
        && pairs.iter().all(|(own, other)| {
            is_plain(hop.from, *own) && is_plain(far, *other) && collation(hop.from, *own) == collation(far, *other)
        })
}

/// The hop beyond which a condition lies as a whole, if it is never true (nor, where `negated`, false) of a row that leads nowhere.
fn first_hop(condition: &Condition, negated: bool) -> Option<&Hop> {
    match condition {
        Condition::Test { path, test } => {
            let is_lost = match test {
                Test::Compare { operand: Operand::Value(other), .. } => {
                    return path.hops.first().filter(|hop| other.hops.first() == Some(hop));
                }
                Test::Compare { .. } | Test::In { .. } | Test::Size { .. } | Test::Text { .. } => true,
                Test::IsNull(expected) => *expected == negated,
                Test::Includes { .. } | Test::IsEmpty(_) => !negated,
                Test::Fits => false,
            };
            path.hops.first().filter(|_| is_lost)
        }
        Condition::And(parts) | Condition::Or(parts) => {
            let first = first_hop(parts.first()?, negated)?;
            parts.iter().all(|part| first_hop(part, negated) == Some(first)).then_some(first)
        }
        Condition::Not(inner) => first_hop(inner, !negated),
        Condition::Quantified { before, quantifier, .. } => {
            let quantifier = if negated { quantifier.negated() } else { *quantifier };
            match quantifier {
                Quantifier::Exists | Quantifier::ExistsFalse => before.first(),
                // True of no rows at all.
                Quantifier::All | Quantifier::None => None,
            }
        }
        Condition::Constant(_)
        | Condition::ClaimPredicate(_)
        | Condition::NotTrue(_)
        | Condition::Numbers { .. }
        | Condition::OverItems { .. } => None,
    }
}

/// The condition as one of the row at the end of its first hop.
fn beyond_first_hop(condition: &Condition) -> Condition {
    let shorter = |path: &Path| Path { hops: path.hops.get(1..).unwrap_or_default().to_vec(), ..path.clone() };
    let all = |parts: &[Condition]| parts.iter().map(beyond_first_hop).collect();
    match condition {
        Condition::Test { path, test } => {
            let test = match test {
                Test::Compare { comparison, operand: Operand::Value(other), by } => {
                    Test::Compare { comparison: *comparison, operand: Operand::Value(shorter(other)), by: *by }
                }
                test => test.clone(),
            };
            Condition::Test { path: shorter(path), test }
        }
        Condition::And(parts) => Condition::And(all(parts)),
        Condition::Or(parts) => Condition::Or(all(parts)),
        Condition::Not(inner) => Condition::Not(Box::new(beyond_first_hop(inner))),
        Condition::Quantified { before, hop, quantifier, inner } => Condition::Quantified {
            before: before.get(1..).unwrap_or_default().to_vec(),
            hop: hop.clone(),
            quantifier: *quantifier,
            inner: inner.clone(),
        },
        other => other.clone(),
    }
}

/// SELECT to LIMIT of clauses, with what is selected.
type Limited<'f> = &'f dyn Fn(&mut Writer<'_>, &mut Clauses<'_>, Fragment) -> Fragment;

/// A root select on its way to a statement.
pub(super) struct Root<'n, 'f> {
    limited: Limited<'f>,
    /// What comes before the statement.
    with: Fragment,
    pub(super) clauses: Clauses<'n>,
    /// Are they the rows of the page already?
    is_found: bool,
}

impl<'n, 'f> Root<'n, 'f> {
    /// The rows of a root select, on the side from which they are found best.
    pub(super) fn new(writer: &mut Writer<'_>, node: &'n Select, limited: Limited<'f>) -> Self {
        let choice = if writer.dialect.chooses_sides_blindly() { choose(writer.model, node) } else { None };
        let all: Vec<&Condition> = node.predicates.iter().map(|predicate| &*predicate.condition).collect();
        let plain = |writer: &mut Writer<'_>, way, with| {
            let clauses = Clauses::of(writer, node, Correlation::Bound(None), all.iter().copied(), way);
            Root { limited, with, clauses, is_found: false }
        };
        let sample = match choice {
            None => return plain(writer, Way::FromRow, Fragment::default()),
            Some(Choice::FarSide) => return plain(writer, Way::FromFarSide, Fragment::default()),
            Some(Choice::Sampled(sample)) => sample,
        };
        let with = sample.with(writer, node);
        let key = writer.model.types[node.of].row_key().filter(|key| !key.promised);
        let key = match (key, &node.row_set) {
            (Some(key), RowSet::Page { .. }) => &key.columns,
            (None, RowSet::Page { .. }) => return plain(writer, Way::FromRow, Fragment::default()),
            (_, RowSet::Single | RowSet::Supplied | RowSet::Aggregate | RowSet::Groups { .. }) => {
                return plain(writer, Way::AsSampled, with);
            }
        };
        let sides = [(Way::FromRow, "1 - "), (Way::PageFromFarSide, "")].map(|(way, not)| {
            let mut side = Clauses::of(writer, node, Correlation::Bound(None), all.iter().copied(), way);
            side.times = Some(format!("({not}{SAMPLE})"));
            let columns = Fragment::text(side.columns(writer, key));
            Fragment::format("select * from ({})", [limited(writer, &mut side, columns)])
        });
        let clauses = Clauses::keyed(writer, node, key, Fragment::join(sides, " union all "));
        Root { limited, with, clauses, is_found: true }
    }

    /// The statement, with what is selected.
    pub(super) fn whole(mut self, writer: &mut Writer<'_>, output: Fragment) -> Fragment {
        let rows = match self.is_found {
            true => self.clauses.in_order(writer, output),
            false => (self.limited)(writer, &mut self.clauses, output),
        };
        self.with.append(rows);
        self.with
    }
}

impl Sample {
    /// The sample, before the statement that goes by it.
    fn with(&self, writer: &mut Writer<'_>, node: &Select) -> Fragment {
        let own: Vec<&Condition> = conjuncts(node).into_iter().filter(|part| !is_over_link(part)).collect();
        let candidates = |writer: &mut Writer<'_>, ordered: bool| {
            let mut rows = Clauses::of(writer, node, Correlation::Bound(None), own.iter().copied(), Way::FromRow);
            let output = Fragment::text(format!("{}.*", rows.scope.alias));
            let mut rows = match ordered {
                true => rows.in_order(writer, output),
                false => Fragment::format("select {}{}", [output, rows.rows_and_conditions()]),
            };
            rows.push(&format!(" limit {}", self.candidates));
            rows
        };
        let enough = Fragment::format(
            "(select count(*) from ({})) = {}",
            [candidates(writer, false), Fragment::text(self.candidates.to_string())],
        );
        let tells = match self.wanted {
            None => enough,
            Some(wanted) => {
                let rows = candidates(writer, true);
                let satisfying = Clauses::among(writer, node, rows, &self.asked).rows_and_conditions();
                let wanted = || Fragment::text(wanted.to_string());
                Fragment::format(
                    "(select count(*) from (select 1{} limit {})) < {} and {}",
                    [satisfying, wanted(), wanted(), enough],
                )
            }
        };
        Fragment::format("with sample as materialized (select {} as far_side) ", [tells])
    }
}

/// What must be true of a select's rows, part by part.
fn conjuncts(select: &Select) -> Vec<&Condition> {
    fn add<'c>(condition: &'c Condition, parts: &mut Vec<&'c Condition>) {
        match condition {
            Condition::And(inner) => inner.iter().for_each(|part| add(part, parts)),
            part => parts.push(part),
        }
    }
    let mut parts = Vec::new();
    select.predicates.iter().for_each(|predicate| add(&predicate.condition, &mut parts));
    parts
}

impl Writer<'_> {
    /// A condition over a link that leads to one, found from the far side; none where it is to be, or can only be, written from the
    /// row. Only its truth counts.
    pub(super) fn found_to_one(&mut self, scope: &Scope, condition: &Condition, negated: bool) -> Option<Fragment> {
        if matches!(self.way, Way::FromRow | Way::AsSampled) {
            return None;
        }
        let hop = first_hop(condition, negated).filter(|hop| can_be_found(self.model, hop))?;
        let way = std::mem::replace(&mut self.way, Way::FromFarSide);
        let mut far = self.scope(self.model.types[hop.from].links[hop.link].target);
        let asked = self.condition(&mut far, &beyond_first_hop(condition), negated);
        let found = self.membership(&scope.alias, hop, far, asked, false);
        self.way = way;
        Some(found)
    }

    /// The parts of a conjunction, those beyond the same hop as one.
    pub(super) fn by_first_hop<'c>(&self, parts: &'c [Condition]) -> Vec<std::borrow::Cow<'c, Condition>> {
        use std::borrow::Cow;
        if matches!(self.way, Way::FromRow | Way::AsSampled) {
            return parts.iter().map(Cow::Borrowed).collect();
        }
        let mut grouped: Vec<(Option<&Hop>, Vec<&Condition>)> = Vec::new();
        for part in parts {
            let hop = first_hop(part, false);
            match grouped.iter_mut().find(|(known, _)| hop.is_some() && *known == hop) {
                Some((_, among)) => among.push(part),
                None => grouped.push((hop, vec![part])),
            }
        }
        let one = |(_, among): (_, Vec<&'c Condition>)| match among.as_slice() {
            [only] => Cow::Borrowed(*only),
            several => Cow::Owned(Condition::And(several.iter().map(|part| (*part).clone()).collect())),
        };
        grouped.into_iter().map(one).collect()
    }

    /// A statement about the rows at the end of a link from the row `at`, found from the far side; none where it is to be written
    /// from the row.
    pub(super) fn found_to_many(
        &mut self,
        at: &str,
        hop: &Hop,
        quantifier: Quantifier,
        inner: &Condition,
    ) -> Option<Fragment> {
        let is_none = says_none(quantifier);
        let is_better = match self.way {
            Way::FromRow => false,
            Way::PageFromFarSide => !is_none,
            Way::FromFarSide | Way::AsSampled => true,
        };
        if !is_better || !can_be_found(self.model, hop) {
            return None;
        }
        let way = std::mem::replace(&mut self.way, Way::FromFarSide);
        let mut far = self.scope(self.model.types[hop.from].links[hop.link].target);
        let asked = self.asked(&mut far, quantifier, inner);
        let found = self.membership(at, hop, far, asked, is_none);
        self.way = way;
        if way != Way::AsSampled {
            return Some(found);
        }
        self.way = Way::FromRow;
        let from_row = self.quantified(at, hop, quantifier, inner);
        self.way = way;
        Some(Fragment::format("case when {} then {} else {} end", [Fragment::text(SAMPLE), found, from_row]))
    }

    /// Are the linking values of the row `at` among those of the rows at the end of a link that satisfy `asked`, or are they not?
    fn membership(&mut self, at: &str, hop: &Hop, mut far: Scope, asked: Fragment, is_none: bool) -> Fragment {
        let Beyond { from, linked, mut conditions } = self.beyond(&mut far, hop);
        let own: Vec<String> = linked.iter().map(|(own, _)| self.column(hop.from, *own, at)).collect();
        let others: Vec<&str> = linked.iter().map(|(_, other)| other.as_str()).collect();
        conditions.push(asked);
        if is_none {
            // Null is in no list, and not in none either.
            conditions.extend(others.iter().map(|other| Fragment::text(format!("{other} is not null"))));
        }
        let in_list = |values: String| if own.len() == 1 { values } else { format!("({values})") };
        let found = Fragment::format(
            "{} {}in (select {} from {}{} where {})",
            [
                Fragment::text(in_list(own.join(", "))),
                Fragment::text(if is_none { "not " } else { "" }),
                Fragment::text(others.join(", ")),
                from,
                far.joins,
                Fragment::join(conditions, " and "),
            ],
        );
        if !is_none {
            return found;
        }
        let nulls = own.iter().map(|own| Fragment::text(format!("{own} is null")));
        Fragment::format("({})", [Fragment::join(nulls.chain([found]), " or ")])
    }
}
