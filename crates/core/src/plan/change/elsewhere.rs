//! Links to other sources whose end is written: to rows that the role can read, as within one source. The database that is written knows
//! nothing of them; the other one is asked before anything is changed.

use std::collections::HashSet;
use std::sync::Arc;

use indexmap::IndexMap;

use crate::access::{Comparison, Condition, Operand, Origin, Path, Predicate, Test, TextComparison};
use crate::error::{Code, Problem};
use crate::model::{Cardinality, ColumnId, FieldType, LinkId, TypeId};
use crate::plan::build::{Context, Planner};
use crate::plan::document::Document;
use crate::plan::shape::{FieldShape, ObjectShape, Value};
use crate::plan::variables::Variables;
use crate::plan::{BoundPlan, Output, RowSet, Select};
use crate::value::{Datum, Scalar};

use super::build::ChangePlanner;

/// What another source has to be asked before a change.
#[derive(Debug)]
pub struct EndsElsewhere {
    /// Counts those of the rows that the role can read.
    pub plan: BoundPlan,
    /// How many different ones there have to be.
    pub rows: u64,
    /// What is answered where there are fewer: the same whether one is hidden or not there.
    pub refused: Problem,
}

/// Rows that one question is about: engines limit how many values a statement has.
const ASKED_TOGETHER: usize = 1_000;
/// The member of the answer that has the count, and that of the row around it.
const COUNT: &str = "count";

impl EndsElsewhere {
    /// Refuses the change where the answer counts fewer rows.
    ///
    /// # Errors
    /// `REFERENCE_BROKEN`.
    pub fn check(&self, answer: &[u8]) -> Result<(), Problem> {
        let answer: serde_json::Value = serde_json::from_slice(answer).unwrap_or_default();
        let there = answer[COUNT][COUNT].as_u64().unwrap_or(0);
        if there < self.rows { Err(self.refused.clone()) } else { Ok(()) }
    }
}

/// Values that lead over a link to another source.
#[derive(Debug)]
pub(super) struct WrittenElsewhere {
    of: TypeId,
    link: LinkId,
    key: Vec<Datum>,
}

impl ChangePlanner<'_> {
    /// Notes where what the caller says of a row leads to another source.
    ///
    /// # Errors
    /// `REFERENCE_BROKEN` where the role reads no row of that type, or the value can be the key of none.
    pub(super) fn written_elsewhere<'v>(
        &mut self,
        of: TypeId,
        said: impl Fn(ColumnId) -> Option<&'v Datum>,
    ) -> Result<(), Problem> {
        let view = self.planner.view;
        let model = view.model();
        for (id, link) in model.types[of].links.iter().enumerate() {
            if !link.crosses || link.cardinality != Cardinality::One {
                continue;
            }
            let values: Option<Vec<(ColumnId, ColumnId, &Datum)>> =
                link.pairs.iter().map(|(own, other)| Some((*own, *other, said(*own)?))).collect();
            let Some(values) = values.filter(|values| values.iter().all(|(_, _, value)| **value != Datum::Null)) else {
                continue;
            };
            let is_read = view.type_view(link.target).is_some();
            if is_read && view.rows(link.target).is_none() {
                // Whoever reads every row learns nothing by a link, and may set one to a row that will be.
                continue;
            }
            let target = &model.types[link.target];
            let key = values.iter().map(|(own, other, value)| {
                let own = &model.types[of].columns[*own];
                target.columns[*other].key_of(model, own, value.as_ref())
            });
            let key = key.collect::<Option<Vec<_>>>().filter(|_| is_read);
            let key = key.ok_or_else(|| self.leads_nowhere(of, id))?;
            self.elsewhere.push(WrittenElsewhere { of, link: id, key });
        }
        Ok(())
    }

    fn leads_nowhere(&self, of: TypeId, link: LinkId) -> Problem {
        let view = self.planner.view;
        let t = &view.model().types[of];
        let link = &t.links[link];
        let target = match view.type_view(link.target) {
            Some(_) => &view.model().types[link.target].name,
            None => "row",
        };
        let columns: Vec<String> =
            link.pairs.iter().map(|(own, _)| format!("`{}.{}`", t.name, t.columns[*own].label())).collect();
        let text =
            format!("{} refers to no `{target}` that is there; give the key of one that is", columns.join(" and "));
        Problem::new(Code::ReferenceBroken, text)
    }

    /// What has to be asked of other sources: a question for each link, and several where it is about many rows.
    pub(super) fn ends_elsewhere(
        &self,
        context: Context<'_>,
        document: &Arc<Document>,
        variables: &Variables,
    ) -> Result<Vec<EndsElsewhere>, Problem> {
        let mut links: IndexMap<(TypeId, LinkId), Vec<&Vec<Datum>>> = IndexMap::new();
        for WrittenElsewhere { of, link, key } in &self.elsewhere {
            links.entry((*of, *link)).or_default().push(key);
        }
        let mut asked = Vec::new();
        for ((of, link), mut keys) in links {
            let mut known = HashSet::new();
            keys.retain(|key| known.insert(format!("{key:?}")));
            for keys in keys.chunks(ASKED_TOGETHER) {
                let plan = count(context, (document, variables), (of, link), keys)?;
                let rows = u64::try_from(keys.len()).unwrap_or(u64::MAX);
                asked.push(EndsElsewhere { plan, rows, refused: self.leads_nowhere(of, link) });
            }
        }
        Ok(asked)
    }
}

/// A plan that counts the rows of these keys that the role can read.
fn count(
    context: Context<'_>,
    (document, variables): (&Arc<Document>, &Variables),
    (of, link): (TypeId, LinkId),
    keys: &[&Vec<Datum>],
) -> Result<BoundPlan, Problem> {
    let mut planner = Planner::new(context, document, variables);
    let link = &context.view.model().types[of].links[link];
    let equal = |((_, other), value): (&(ColumnId, ColumnId), &Datum)| Condition::Test {
        path: Path { hops: Vec::new(), column: *other, masked: false },
        test: Test::Compare {
            comparison: Comparison::Eq,
            operand: Operand::Constant(value.clone()),
            by: TextComparison::Collation,
        },
    };
    let among = keys.iter().map(|key| Condition::And(link.pairs.iter().zip(key.iter()).map(equal).collect()));
    let mut select = planner.seen(link.target, None);
    let condition = Arc::new(Condition::Or(among.collect()));
    select.predicates.push(Predicate { origin: Origin::Caller, condition });
    let select = planner.add(Select { row_set: RowSet::Aggregate, output: vec![Output::Count], ..select })?;
    let counted = Value::Column {
        output: 0,
        kind: FieldType::Scalar(Scalar::Int),
        is_json: false,
        non_null: false,
        name: COUNT.into(),
    };
    let object = ObjectShape { fields: vec![FieldShape::new(COUNT, None, counted)] };
    let row = Value::One { select, present: None, object };
    let shape = ObjectShape { fields: vec![FieldShape::new(COUNT, None, row)] };
    Arc::new(planner.planned.into_plan(shape, context, document)).bind(variables, context.limits)
}
