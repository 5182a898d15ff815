//! From a [`Condition`] to the database's own conditions: a filter of documents where it is about the document itself, which indexes
//! serve, and an expression everywhere else. Either is true or not; negations are pushed to the leaves, and a leaf is true only of a
//! value of its place's own type. So what is missing, null or of another type counts as null (DESIGN, three-valued logic).

use bson::Bson;
use puente_core::access::{
    Arithmetic, Comparison, Condition, Hop, MOST_DIGITS, Number, Operand, Path, Quantifier, Test, TextComparison,
};
use puente_core::model::{Column, ColumnId, FieldType, ITEM_COLUMN, Model, TypeId};
use puente_core::plan::FilteredItems;
use puente_core::value::{Datum, Scalar};

use super::template::{Node, Slot, apply, apply_to, document};
use super::values::{Conversion, MOST_WHOLE, Matching, types_of};

/// Makes names for what a command computes.
pub(super) struct Lowering<'a> {
    pub(super) model: &'a Model,
    next: usize,
}

/// The row that a condition is about, and the stages that what it needs of other collections is found by.
pub(super) struct Scope {
    pub(super) of: TypeId,
    place: Place,
    /// Stages that have to come before what was written with it.
    pub(super) stages: Vec<Node>,
    /// What to-one hops lead to already, by the field that holds it.
    reached: Vec<(String, Hop, String)>,
    /// Fields that hold masked columns as they are shown.
    masked: Vec<(ColumnId, String)>,
}

/// Where a row's values are.
#[derive(Debug, Clone)]
enum Place {
    /// In the document that is filtered, behind this prefix.
    Document(String),
    /// In a variable of an expression.
    Variable(String),
}

/// A value of a row: the place of its column.
struct Value<'a> {
    /// Behind the document or the variable.
    place: Place,
    path: String,
    /// Lists that would be gone through on the way.
    above: Vec<String>,
    column: &'a Column,
    /// Is it of its type in every document, or missing?
    typed: bool,
    /// Can it be missing? Also where a hop leads nowhere.
    nullable: bool,
}

/// The first letter of what a command computes: no member of a document that is surveyed begins with it.
pub(super) const COMPUTED: char = '~';

impl Scope {
    /// The row that a document is.
    pub(super) fn document(of: TypeId) -> Self {
        Scope::at(of, Place::Document(String::new()))
    }

    /// The row that a part of a document is.
    pub(super) fn part(of: TypeId, field: &str) -> Self {
        Scope::at(of, Place::Document(format!("{field}.")))
    }

    fn at(of: TypeId, place: Place) -> Self {
        Scope { of, place, stages: Vec::new(), reached: Vec::new(), masked: Vec::new() }
    }

    /// The stages so far.
    pub(super) fn take_stages(&mut self) -> Vec<Node> {
        std::mem::take(&mut self.stages)
    }
}

impl<'a> Lowering<'a> {
    pub(super) fn new(model: &'a Model) -> Self {
        Lowering { model, next: 0 }
    }

    /// A name that nothing else has.
    pub(super) fn name(&mut self) -> String {
        self.next += 1;
        format!("{COMPUTED}{}", self.next - 1)
    }

    /// The path of a column's value from its row.
    pub(super) fn path(&self, of: TypeId, column: ColumnId) -> Vec<&'a str> {
        let t = &self.model.types[of];
        let mut path = Vec::new();
        match &t.columns[column].member {
            Some(member) => {
                if t.items_of.is_none() {
                    path.push(t.columns[member.of].name.as_str());
                }
                path.extend(member.path.iter().map(String::as_str));
            }
            None if t.items_of.is_some() && column == ITEM_COLUMN => {}
            None => path.push(t.columns[column].name.as_str()),
        }
        path
    }

    fn value_at(&self, of: TypeId, column: ColumnId, place: &Place) -> Value<'a> {
        let c = &self.model.types[of].columns[column];
        let path = self.path(of, column);
        let above = (1..path.len()).map(|end| path[..end].join("."));
        Value {
            place: place.clone(),
            above: above.collect(),
            path: path.join("."),
            column: c,
            typed: c.typed,
            nullable: c.nullable,
        }
    }

    /// A value of the row, or of what to-one hops lead to.
    fn value(&mut self, scope: &mut Scope, path: &Path) -> Value<'a> {
        let (mut of, mut place) = (scope.of, scope.place.clone());
        for hop in &path.hops {
            let field = self.reach(scope, &place, hop);
            of = self.model.types[hop.from].links[hop.link].target;
            place = Place::Document(format!("{field}."));
        }
        if path.masked {
            let shown = match path.hops.last() {
                None => scope.masked.iter().find(|(column, _)| *column == path.column).map(|(_, field)| field.clone()),
                Some(hop) => {
                    let is_masked = hop.masks.iter().any(|(column, _)| *column == path.column);
                    is_masked.then(|| shown(path.column))
                }
            };
            if let Some(field) = shown {
                let prefix = if path.hops.is_empty() { Place::Document(String::new()) } else { place };
                let column = &self.model.types[of].columns[path.column];
                return Value { place: prefix, path: field, above: Vec::new(), column, typed: false, nullable: true };
            }
        }
        let value = self.value_at(of, path.column, &place);
        Value { nullable: value.nullable || !path.hops.is_empty(), ..value }
    }

    /// The field that holds what a to-one hop leads to.
    fn reach(&mut self, scope: &mut Scope, from: &Place, hop: &Hop) -> String {
        let Place::Document(prefix) = from else { return String::new() };
        if let Some((.., field)) = scope.reached.iter().find(|(at, known, _)| at == prefix && known == hop) {
            return field.clone();
        }
        let field = self.name();
        let stages = self.linked(hop, prefix, &field, Vec::new(), Vec::new());
        scope.stages.extend(stages);
        let first = apply("$first", format!("${field}"));
        scope.stages.push(apply("$set", Node::Document(vec![(field.clone(), first)])));
        scope.reached.push((prefix.clone(), hop.clone(), field.clone()));
        field
    }

    /// The stage that looks up the first row at the other end of a hop for which `asked` holds, as a list in a field. `before` are
    /// stages that `asked` needs.
    fn linked(&mut self, hop: &Hop, prefix: &str, field: &str, before: Vec<Node>, asked: Vec<Node>) -> Vec<Node> {
        let link = &self.model.types[hop.from].links[hop.link];
        let mut target = Scope::document(link.target);
        let mut stages = Vec::new();
        if let Some(visible) = &hop.visible {
            let condition = self.filter(&mut target, visible, false);
            stages.append(&mut target.stages);
            stages.push(apply("$match", condition));
        }
        for (column, mask) in hop.masks.iter() {
            let shown = self.shown(&mut target, *column, mask, shown(*column));
            stages.append(&mut target.stages);
            stages.push(shown);
        }
        stages.extend(before);
        stages.extend(asked.into_iter().map(|condition| apply("$match", condition)));
        stages.push(apply("$limit", 1_i64));
        match &link.through {
            None => vec![self.lookup((hop.from, prefix), link.target, &link.pairs, field, stages)],
            Some(through) => {
                let mut join = Scope::document(through.join);
                let mut outer = Vec::new();
                if let Some(visible) = &hop.join_visible {
                    let condition = self.filter(&mut join, visible, false);
                    outer.append(&mut join.stages);
                    outer.push(apply("$match", condition));
                }
                let far = self.name();
                outer.push(self.lookup((through.join, ""), link.target, &through.far, &far, stages));
                outer.push(apply("$match", document([(&far, apply("$ne", Vec::new()))])));
                outer.push(apply("$limit", 1_i64));
                vec![self.lookup((hop.from, prefix), through.join, &through.near, field, outer)]
            }
        }
    }

    /// A stage that puts those rows of a type into a field of which columns equal columns of a row, as `stages` leave them. Null
    /// equals nothing.
    pub(super) fn lookup(
        &mut self,
        (from, prefix): (TypeId, &str),
        of: TypeId,
        pairs: &[(ColumnId, ColumnId)],
        field: &str,
        stages: Vec<Node>,
    ) -> Node {
        let own = pairs.iter().map(|(own, _)| {
            let value = self.value_at(from, *own, &Place::Document(prefix.to_owned()));
            (format!("{prefix}{}", value.path), (!value.typed).then(|| self.is_typed_expression(&value)))
        });
        let own: Vec<(String, Option<Node>)> = own.collect();
        let columns: Vec<ColumnId> = pairs.iter().map(|(_, other)| *other).collect();
        self.lookup_by(&own, of, &columns, field, stages)
    }

    /// The same by fields of any document, each with what has to be true for it to equal anything.
    pub(super) fn lookup_by(
        &mut self,
        own: &[(String, Option<Node>)],
        of: TypeId,
        columns: &[ColumnId],
        field: &str,
        stages: Vec<Node>,
    ) -> Node {
        let here = Place::Document(String::new());
        let (mut variables, mut conditions) = (Vec::new(), Vec::new());
        for (at, ((path, equals), column)) in own.iter().zip(columns).enumerate() {
            let other = self.value_at(of, *column, &here);
            if at > 0 {
                variables.push((format!("k{at}"), Node::from(format!("${path}"))));
                let equal = apply_to("$eq", [self.reference(&other), format!("$$k{at}").into()]);
                conditions.push(apply("$expr", equal));
            }
            if let Some(equals) = equals {
                variables.push((format!("t{at}"), equals.clone()));
                conditions.push(apply("$expr", format!("$$t{at}")));
            }
            // What it equals is of its type.
            conditions.push(self.is_there_as(&other, &|types| self.equal(&other, Vec::new(), Some(types))));
        }
        let mut pipeline = vec![apply("$match", one_of_all(conditions))];
        pipeline.extend(stages);
        let mut members = vec![
            ("from".to_owned(), Node::from(self.model.types[of].relation.clone())),
            ("localField".to_owned(), own.first().map_or(String::new(), |(path, _)| path.clone()).into()),
            (
                "foreignField".to_owned(),
                columns.first().map_or(String::new(), |first| self.path(of, *first).join(".")).into(),
            ),
        ];
        if !variables.is_empty() {
            members.push(("let".to_owned(), Node::Document(variables)));
        }
        members.push(("pipeline".to_owned(), Node::List(pipeline)));
        members.push(("as".to_owned(), field.into()));
        apply("$lookup", Node::Document(members))
    }

    /// The stage that sets a masked column as it is shown.
    fn shown(&mut self, scope: &mut Scope, column: ColumnId, mask: &Condition, field: String) -> Node {
        let condition = self.expression(scope, mask, false);
        let value = self.value_at(scope.of, column, &scope.place);
        let shown = apply_to("$cond", [condition, self.reference(&value), Node::NULL]);
        apply("$set", Node::Document(vec![(field, shown)]))
    }

    /// Shows masked columns: what is said of them afterwards is said of what is shown.
    pub(super) fn mask(&mut self, scope: &mut Scope, column: ColumnId, mask: &Condition) {
        let field = self.name();
        let stage = self.shown(scope, column, mask, field.clone());
        scope.stages.push(stage);
        scope.masked.push((column, field));
    }

    /// The field that a column is read from, and the path in it.
    pub(super) fn source_of(&self, scope: &Scope, column: ColumnId, masked: bool) -> Vec<String> {
        if let Some((_, field)) = scope.masked.iter().find(|(known, _)| masked && *known == column) {
            return vec![field.clone()];
        }
        let prefix = match &scope.place {
            Place::Document(prefix) => prefix.trim_end_matches('.'),
            Place::Variable(_) => "",
        };
        let own = self.path(scope.of, column);
        (!prefix.is_empty()).then_some(prefix).into_iter().chain(own).map(str::to_owned).collect()
    }

    /// An expression of a value as it is: of any type, or missing.
    fn reference(&self, value: &Value<'_>) -> Node {
        match &value.place {
            Place::Document(prefix) if value.path.is_empty() => format!("${}", prefix.trim_end_matches('.')).into(),
            Place::Document(prefix) => format!("${prefix}{}", value.path).into(),
            Place::Variable(name) if value.path.is_empty() => format!("$${name}").into(),
            Place::Variable(name) => format!("$${name}.{}", value.path).into(),
        }
    }

    /// Is a value of its type? As an expression.
    fn is_typed_expression(&self, value: &Value<'_>) -> Node {
        let reference = self.reference(value);
        if value.typed {
            return apply_to("$gt", [reference, Node::NULL]);
        }
        match types_of(value.column.kind) {
            [] => is_none_of(reference, ABSENT),
            _ if is_whole_number(value.column) => whole_number(reference),
            types => is_one_of(reference, types),
        }
    }

    /// Is a value there, and of its type? As a filter.
    fn is_there(&self, value: &Value<'_>) -> Node {
        self.is_there_as(value, &|types| self.guarded(value, Vec::new(), Some(types)))
    }

    fn is_there_as(&self, value: &Value<'_>, is_of: &dyn Fn(&[&str]) -> Node) -> Node {
        let Place::Document(prefix) = &value.place else { return apply("$expr", self.is_typed_expression(value)) };
        let path = format!("{prefix}{}", value.path);
        if value.typed {
            return document([(&path, apply("$ne", Node::NULL))]);
        }
        let types = types_of(value.column.kind);
        if types.is_empty() {
            return apply("$expr", self.is_typed_expression(value));
        }
        is_of(types)
    }

    /// What is asked of a value in a filter, which lists on the way to it and at its place do not answer.
    fn guarded(&self, value: &Value<'_>, asked: Vec<(String, Node)>, types: Option<&[&str]>) -> Node {
        self.guarded_as(value, asked, types, is_whole_number(value.column))
    }

    /// That a value equals one of its type. What equals a number of 32 bits has no fraction: that is not looked at, which no
    /// index could do.
    fn equal(&self, value: &Value<'_>, asked: Vec<(String, Node)>, types: Option<&[&str]>) -> Node {
        let is_whole = is_whole_number(value.column) && value.column.scalar() != Some(Scalar::Int);
        self.guarded_as(value, asked, types, is_whole)
    }

    fn guarded_as(
        &self,
        value: &Value<'_>,
        mut asked: Vec<(String, Node)>,
        types: Option<&[&str]>,
        is_whole: bool,
    ) -> Node {
        let Place::Document(prefix) = &value.place else { return Node::from(false) };
        let path = format!("{prefix}{}", value.path);
        if value.typed {
            let asked = Node::Document(vec![(path.clone(), Node::Document(asked))]);
            // What is said of no type is true of null.
            let may_be_null = value.nullable && types.is_some();
            let there = may_be_null.then(|| Node::Document(vec![(path, apply("$ne", Node::NULL))]));
            return match there {
                Some(there) => apply("$and", vec![asked, there]),
                None => asked,
            };
        }
        let is_list = types == Some(&["array"]);
        if let Some(types) = types {
            let types = types.iter().map(|name| Node::from(*name)).collect::<Vec<_>>();
            asked.push(("$type".to_owned(), types.into()));
        }
        let no_list = || apply("$type", "array");
        let has_not = asked.iter().any(|(word, _)| word == "$not");
        if !is_list && !has_not {
            asked.push(("$not".to_owned(), no_list()));
        }
        let mut filters = vec![Node::Document(vec![(path.clone(), Node::Document(asked))])];
        if !is_list && has_not {
            filters.push(Node::Document(vec![(path.clone(), apply("$not", no_list()))]));
        }
        if is_whole {
            let integers = vec![Node::from("int"), "long".into()];
            let is_integer = Node::Document(vec![(path.clone(), apply("$type", integers))]);
            filters.push(apply("$or", vec![is_integer, apply("$expr", whole_number(format!("${path}").into()))]));
        }
        filters.extend(
            value
                .above
                .iter()
                .map(|above| Node::Document(vec![(format!("{prefix}{above}"), apply("$not", no_list()))])),
        );
        one_of_all(filters)
    }

    /// `condition`, true where it is true, as a filter of documents.
    pub(super) fn filter(&mut self, scope: &mut Scope, condition: &Condition, negated: bool) -> Node {
        match condition {
            Condition::Constant(value) => constant(*value != negated),
            // Nobody asked the claims: nothing is allowed.
            Condition::ClaimPredicate(_) => constant(false),
            Condition::And(parts) => self.combined(scope, parts, negated, !negated),
            Condition::Or(parts) => self.combined(scope, parts, negated, negated),
            Condition::Not(inner) => self.filter(scope, inner, !negated),
            Condition::NotTrue(inner) => {
                let inner = self.filter(scope, inner, false);
                if negated { inner } else { apply("$nor", vec![inner]) }
            }
            Condition::Test { path, test } => {
                let value = self.value(scope, path);
                let tested = self.tested(scope, &value, test, negated);
                match negated.then(|| is_of_nothing(test)).flatten() {
                    Some(is_empty) => apply("$or", vec![tested, apply("$expr", is_empty)]),
                    None => tested,
                }
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let field = self.quantified(scope, before, hop, *quantifier, inner, negated);
                let (field, exists) = field;
                let filter = if exists { apply("$ne", Vec::new()) } else { apply("$size", 0) };
                Node::Document(vec![(field, filter)])
            }
            Condition::Numbers { .. } | Condition::OverItems { .. } => {
                apply("$expr", self.expression(scope, condition, negated))
            }
        }
    }

    fn combined(&mut self, scope: &mut Scope, parts: &[Condition], negated: bool, all: bool) -> Node {
        let mut parts: Vec<Node> = parts.iter().map(|part| self.filter(scope, part, negated)).collect();
        match parts.len() {
            0 => constant(all),
            1 => parts.remove(0),
            _ if all => one_of_all(parts),
            _ => apply("$or", parts),
        }
    }

    /// Looks up whether a row at the end of a to-many link is as a quantifier wants it: the field that has it, and whether there has
    /// to be one.
    fn quantified(
        &mut self,
        scope: &mut Scope,
        before: &[Hop],
        hop: &Hop,
        quantifier: Quantifier,
        inner: &Condition,
        negated: bool,
    ) -> (String, bool) {
        let quantifier = if negated { quantifier.negated() } else { quantifier };
        let mut place = scope.place.clone();
        for hop in before {
            place = Place::Document(format!("{}.", self.reach(scope, &place, hop)));
        }
        let prefix = match place {
            Place::Document(prefix) => prefix,
            Place::Variable(_) => String::new(),
        };
        let mut target = Scope::document(self.model.types[hop.from].links[hop.link].target);
        target.masked = hop.masks.iter().map(|(column, _)| (*column, shown(*column))).collect();
        let asked = match quantifier {
            Quantifier::Exists => self.filter(&mut target, inner, false),
            Quantifier::ExistsFalse => self.filter(&mut target, inner, true),
            Quantifier::All => apply("$nor", vec![self.filter(&mut target, inner, false)]),
            // `f is not false`, said of the negated `f`.
            Quantifier::None => apply("$nor", vec![self.filter(&mut target, inner, true)]),
        };
        let field = self.name();
        let stages = self.linked(hop, &prefix, &field, target.take_stages(), vec![asked]);
        scope.stages.extend(stages);
        (field, matches!(quantifier, Quantifier::Exists | Quantifier::ExistsFalse))
    }

    fn tested(&mut self, scope: &mut Scope, value: &Value<'_>, test: &Test, negated: bool) -> Node {
        let types = types_of(value.column.kind);
        let is_plain = matches!(value.place, Place::Document(_)) && !types.is_empty();
        let operand = |operand: &Operand| Node::Bound(slot(operand, value.column));
        let asked = match test {
            _ if !is_plain => None,
            Test::Compare { operand: Operand::Value(_), .. } | Test::Size { .. } | Test::Fits => None,
            Test::Compare { comparison: Comparison::Eq | Comparison::Ne, by: TextComparison::Exact, .. }
            | Test::In { by: TextComparison::Exact, .. }
                if value.column.collation.is_some() =>
            {
                let exact = apply("$expr", self.tested_expression(scope, value, test, negated));
                // Beside the collation's own comparison, which an index serves.
                return match loosely(test).filter(|_| !negated) {
                    Some(loose) => apply("$and", vec![self.tested(scope, value, &loose, false), exact]),
                    None => exact,
                };
            }
            Test::Compare { comparison, operand: with, by: TextComparison::Collation | TextComparison::Exact } => {
                let comparison = if negated { negation(*comparison) } else { *comparison };
                let asked = vec![(operator(comparison).to_owned(), operand(with))];
                let types = Some(types);
                return match comparison {
                    // What equals a value is of its type, unless that is one of several.
                    Comparison::Eq => self.equal(value, asked, types.filter(|types| types.len() > 1)),
                    Comparison::Ne | Comparison::Lt | Comparison::Lte | Comparison::Gt | Comparison::Gte => {
                        self.guarded(value, asked, types)
                    }
                };
            }
            Test::Compare { comparison, operand: with, by: TextComparison::IgnoreCase } => match comparison {
                Comparison::Eq | Comparison::Ne => {
                    let is_equal = (*comparison == Comparison::Eq) != negated;
                    Some((pattern(with, Matching::Whole), true, is_equal))
                }
                Comparison::Lt | Comparison::Lte | Comparison::Gt | Comparison::Gte => None,
            },
            Test::In { operand: with, by: TextComparison::Collation | TextComparison::Exact } => {
                let list = Node::Bound(list_slot(with, value.column));
                return match negated {
                    true => self.guarded(value, vec![("$nin".to_owned(), list)], Some(types)),
                    false => {
                        let types = Some(types).filter(|types| types.len() > 1);
                        self.equal(value, vec![("$in".to_owned(), list)], types)
                    }
                };
            }
            Test::In { operand: with, by: TextComparison::IgnoreCase } => {
                Some((pattern(with, Matching::Whole), true, !negated))
            }
            Test::Text { test, operand: with, ignore_case } if types == ["string"] => {
                Some((pattern(with, Matching::Part(*test)), *ignore_case, !negated))
            }
            Test::Text { .. } => None,
            Test::IsNull(expected) => {
                let there = self.is_there(value);
                return if *expected == negated { there } else { apply("$nor", vec![there]) };
            }
            Test::IsEmpty(expected) => {
                let empty = ("$size".to_owned(), Node::from(0));
                let asked = match *expected != negated {
                    true => vec![empty],
                    false => vec![("$not".to_owned(), Node::Document(vec![empty]))],
                };
                return self.guarded(value, asked, Some(types));
            }
            Test::Includes { .. } => None,
        };
        match asked {
            Some((found, ignore_case, true)) => {
                self.guarded(value, vec![("$regex".to_owned(), found), options(ignore_case)], None)
            }
            Some((found, ignore_case, false)) => {
                let found = Node::Document(vec![("$regex".to_owned(), found), options(ignore_case)]);
                self.guarded(value, vec![("$not".to_owned(), found)], Some(types))
            }
            None => apply("$expr", self.tested_expression(scope, value, test, negated)),
        }
    }

    /// `condition`, true where it is true, as an expression.
    pub(super) fn expression(&mut self, scope: &mut Scope, condition: &Condition, negated: bool) -> Node {
        match condition {
            Condition::Constant(value) => (*value != negated).into(),
            Condition::ClaimPredicate(_) => false.into(),
            Condition::And(parts) => self.combined_expression(scope, parts, negated, !negated),
            Condition::Or(parts) => self.combined_expression(scope, parts, negated, negated),
            Condition::Not(inner) => self.expression(scope, inner, !negated),
            Condition::NotTrue(inner) => {
                let inner = self.expression(scope, inner, false);
                if negated { inner } else { apply("$not", vec![inner]) }
            }
            Condition::Test { path, test } => {
                let value = self.value(scope, path);
                let tested = self.tested_expression(scope, &value, test, negated);
                match negated.then(|| is_of_nothing(test)).flatten() {
                    Some(is_empty) => apply("$or", vec![tested, is_empty]),
                    None => tested,
                }
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let (field, exists) = self.quantified(scope, before, hop, *quantifier, inner, negated);
                let size = apply("$size", format!("${field}"));
                apply_to(if exists { "$gt" } else { "$eq" }, [size, 0.into()])
            }
            Condition::Numbers { left, comparison, right } => {
                let sides = [left, right].map(|number| self.number(scope, number));
                let compared = apply_to(operator(*comparison), [LEFT, RIGHT].map(of_let));
                let compared = if negated { apply("$not", vec![compared]) } else { compared };
                // What is missing, or null, is before every number.
                let known = [LEFT, RIGHT].map(|side| apply_to("$gt", [of_let(side), Node::NULL]));
                let [left_known, right_known] = known;
                with_sides(sides, apply("$and", vec![left_known, right_known, compared]))
            }
            Condition::OverItems { path, quantifier, inner } => {
                let quantifier = if negated { quantifier.negated() } else { *quantifier };
                let value = self.value(scope, path);
                let FieldType::Items(items) = value.column.kind else { return false.into() };
                let (variable, mut item) = self.item(items);
                let asked = match quantifier {
                    Quantifier::Exists => self.expression(&mut item, inner, false),
                    Quantifier::ExistsFalse => self.expression(&mut item, inner, true),
                    Quantifier::All => apply("$not", vec![self.expression(&mut item, inner, false)]),
                    Quantifier::None => apply("$not", vec![self.expression(&mut item, inner, true)]),
                };
                let list = self.reference(&value);
                let mapped = document([("input", or_empty(list)), ("as", variable.into()), ("in", asked)]);
                let any = apply("$anyElementTrue", vec![apply("$map", mapped)]);
                match quantifier {
                    Quantifier::Exists | Quantifier::ExistsFalse => any,
                    Quantifier::All | Quantifier::None => apply("$not", vec![any]),
                }
            }
        }
    }

    /// A number that a rule calculates: null where it is unknown.
    fn number(&mut self, scope: &mut Scope, number: &Number) -> Node {
        // What claims leave open is never asked.
        let bound = |slot| apply("$literal", Node::Bound(slot));
        match number {
            Number::Value(path) => {
                let value = self.value(scope, path);
                within_digits(self.reference(&value), self.is_typed_expression(&value))
            }
            Number::Time(path) => {
                let value = self.value(scope, path);
                let reference = self.reference(&value);
                // Days and times without a zone are texts here.
                let date = match value.column.kind {
                    FieldType::Scalar(Scalar::DateTime) => reference,
                    _ => apply(
                        "$dateFromString",
                        document([("dateString", reference), ("onError", Node::NULL), ("onNull", Node::NULL)]),
                    ),
                };
                let milliseconds = apply("$toDecimal", apply("$toLong", date));
                let microseconds = apply_to("$multiply", [milliseconds, 1000.into()]);
                apply_to("$cond", [self.is_typed_expression(&value), microseconds, Node::NULL])
            }
            Number::Parameter(parameter) => bound(Slot::Value(*parameter, Conversion::Scalar(Scalar::Decimal))),
            Number::Constant(datum) => bound(Slot::Constant(datum.clone(), Conversion::Scalar(Scalar::Decimal))),
            Number::Calculated { arithmetic, left, right } => {
                let sides = [left, right].map(|number| self.number(scope, number));
                let [left, right] = [LEFT, RIGHT].map(of_let);
                let remainder = || apply_to("$mod", [of_let(LEFT), of_let(RIGHT)]);
                let is_divided = |result: Node| {
                    let is_zero = apply_to("$eq", [of_let(RIGHT), 0.into()]);
                    apply_to("$cond", [is_zero, Node::NULL, result])
                };
                let result = match arithmetic {
                    Arithmetic::Add => apply_to("$add", [left, right]),
                    Arithmetic::Subtract => apply_to("$subtract", [left, right]),
                    Arithmetic::Multiply => apply_to("$multiply", [left, right]),
                    // Without what is left over it is exact.
                    Arithmetic::Divide => {
                        let multiple = apply_to("$subtract", [left, remainder()]);
                        is_divided(apply_to("$divide", [multiple, right]))
                    }
                    Arithmetic::Remainder => is_divided(remainder()),
                };
                with_sides(sides, result)
            }
        }
    }

    fn combined_expression(&mut self, scope: &mut Scope, parts: &[Condition], negated: bool, all: bool) -> Node {
        let mut parts: Vec<Node> = parts.iter().map(|part| self.expression(scope, part, negated)).collect();
        match parts.len() {
            0 => all.into(),
            1 => parts.remove(0),
            _ => apply(if all { "$and" } else { "$or" }, parts),
        }
    }

    /// A variable for the items of a list, and the row that it is.
    fn item(&mut self, items: TypeId) -> (String, Scope) {
        // Variables begin with a letter.
        let variable = self.name().replace(COMPUTED, "i");
        let scope = Scope::at(items, Place::Variable(variable.clone()));
        (variable, scope)
    }

    /// Is a condition true of an item of a list? With the variable that it is.
    pub(super) fn about_item(&mut self, items: TypeId, condition: &Condition) -> (String, Node) {
        let (variable, mut item) = self.item(items);
        let asked = self.expression(&mut item, condition, false);
        (variable, asked)
    }

    fn tested_expression(&mut self, scope: &mut Scope, value: &Value<'_>, test: &Test, negated: bool) -> Node {
        let reference = self.reference(value);
        let typed = self.is_typed_expression(value);
        let bound = |operand: &Operand| apply("$literal", Node::Bound(slot(operand, value.column)));
        let matches = |operand: &Operand, matching: Matching, ignore_case: bool, text: Node| {
            let options = if ignore_case { "i" } else { "" };
            let regex = apply("$literal", pattern(operand, matching));
            apply("$regexMatch", document([("input", text), ("regex", regex), ("options", options.into())]))
        };
        let asked = match test {
            Test::IsNull(expected) => {
                return if *expected == negated { typed } else { apply("$not", vec![typed]) };
            }
            Test::Fits => {
                let absent = is_one_of(reference.clone(), ABSENT);
                let typed = match value.column.kind {
                    FieldType::Scalar(Scalar::Int) => {
                        let least = apply_to("$gte", [reference.clone(), i64::from(i32::MIN).into()]);
                        let most = apply_to("$lte", [reference, i64::from(i32::MAX).into()]);
                        apply("$and", vec![typed, least, most])
                    }
                    _ => typed,
                };
                let fits = apply("$or", vec![absent, typed]);
                return if negated { apply("$not", vec![fits]) } else { fits };
            }
            Test::Compare { comparison, operand: Operand::Value(other), by } => {
                let other = self.value(scope, other);
                let sides = [reference, self.reference(&other)];
                let is_exact = *by == TextComparison::Exact && value.column.collation.is_some();
                let both = match comparison {
                    Comparison::Eq if is_exact => same_bytes(sides),
                    Comparison::Ne if is_exact => apply("$not", vec![same_bytes(sides)]),
                    _ => apply_to(operator(*comparison), sides),
                };
                let asked = if negated { apply("$not", vec![both]) } else { both };
                return apply("$and", vec![typed, self.is_typed_expression(&other), asked]);
            }
            Test::Compare { comparison, operand, by: TextComparison::IgnoreCase }
                if matches!(comparison, Comparison::Eq | Comparison::Ne) =>
            {
                let is_equal = matches(operand, Matching::Whole, true, reference);
                if *comparison == Comparison::Ne { apply("$not", vec![is_equal]) } else { is_equal }
            }
            Test::Compare {
                comparison: comparison @ (Comparison::Eq | Comparison::Ne),
                operand,
                by: TextComparison::Exact,
            } if value.column.collation.is_some() => {
                let is_equal = matches(operand, Matching::Whole, false, reference);
                if *comparison == Comparison::Ne { apply("$not", vec![is_equal]) } else { is_equal }
            }
            Test::Compare { comparison, operand, by } => {
                let sides = [reference, bound(operand)];
                let folds = *by == TextComparison::IgnoreCase;
                let folded = |side: Node| if folds { apply("$toLower", side) } else { side };
                apply_to(operator(*comparison), sides.map(folded))
            }
            Test::In { operand, by: TextComparison::Exact } if value.column.collation.is_some() => {
                matches(operand, Matching::Whole, false, reference)
            }
            Test::In { operand, by: TextComparison::IgnoreCase } => matches(operand, Matching::Whole, true, reference),
            Test::In { operand, by: TextComparison::Collation | TextComparison::Exact } => {
                let list = apply("$literal", Node::Bound(list_slot(operand, value.column)));
                apply_to("$in", [reference, list])
            }
            Test::Size { comparison, size } => {
                let counted = if matches!(value.column.kind, FieldType::List(_)) { "$size" } else { "$strLenCP" };
                apply_to(operator(*comparison), [apply(counted, reference), (*size).into()])
            }
            Test::Text { test, operand, ignore_case } => {
                let is_text = types_of(value.column.kind) == ["string"];
                let text = if is_text { reference } else { apply("$toString", reference) };
                matches(operand, Matching::Part(*test), *ignore_case, text)
            }
            Test::Includes { operand, all } => {
                let list = apply("$literal", Node::Bound(list_slot(operand, value.column)));
                if *all {
                    apply_to("$setIsSubset", [list, reference])
                } else {
                    let both = apply_to("$setIntersection", [list, reference]);
                    apply_to("$gt", [apply("$size", both), 0.into()])
                }
            }
            Test::IsEmpty(expected) => {
                let size = apply("$size", reference);
                apply_to(if *expected { "$eq" } else { "$ne" }, [size, 0.into()])
            }
        };
        let asked = if negated { apply("$not", vec![asked]) } else { asked };
        // What is of another type is not looked at: functions of texts and lists refuse it.
        apply_to("$cond", [typed, asked, false.into()])
    }

    /// The expression of a path's value as rows are ordered by it: null where it is of another type; the plain field where it
    /// never is.
    pub(super) fn ordered(&mut self, scope: &mut Scope, path: &Path) -> (Node, Option<String>) {
        let value = self.value(scope, path);
        let plain = match &value.place {
            Place::Document(prefix) if value.typed => Some(format!("{prefix}{}", value.path)),
            _ => None,
        };
        (self.typed(&value), plain)
    }

    /// A value where it is of its type, and null elsewhere.
    fn typed(&self, value: &Value<'_>) -> Node {
        apply_to("$cond", [self.is_typed_expression(value), self.reference(value), Node::NULL])
    }

    /// A column's value as the role sees it where it is of its type, and null elsewhere.
    pub(super) fn column(&mut self, scope: &mut Scope, column: ColumnId) -> Node {
        let value = self.value(scope, &Path { hops: Vec::new(), column, masked: true });
        self.typed(&value)
    }

    /// The type of what the role sees of a column.
    pub(super) fn type_of(&mut self, scope: &mut Scope, column: ColumnId) -> Node {
        let value = self.value(scope, &Path { hops: Vec::new(), column, masked: true });
        apply("$type", self.reference(&value))
    }

    /// Those items of a list that are delivered; what is no list as it is.
    pub(super) fn items(&mut self, scope: &mut Scope, column: ColumnId, filtered: &FilteredItems) -> Node {
        let value = self.value(scope, &Path { hops: Vec::new(), column, masked: true });
        self.filtered(&value, filtered)
    }

    fn filtered(&mut self, value: &Value<'_>, filtered: &FilteredItems) -> Node {
        let list = self.reference(value);
        let FieldType::Items(items) = value.column.kind else { return list };
        let (variable, mut item) = self.item(items);
        let mut kept = list.clone();
        if let Some(condition) = &filtered.condition {
            let condition = self.expression(&mut item, condition, false);
            let filter = document([("input", kept), ("as", variable.clone().into()), ("cond", condition)]);
            kept = apply("$filter", filter);
        }
        if !filtered.beside.is_empty() {
            let mut parts = vec![Node::from(format!("$${variable}"))];
            for (column, filtered) in &filtered.beside {
                let inner = self.value_at(items, *column, &Place::Variable(variable.clone()));
                parts.push(self.filtered(&inner, filtered));
            }
            let mapped = document([("input", kept), ("as", variable.into()), ("in", parts.into())]);
            kept = apply("$map", mapped);
        }
        apply_to("$cond", [apply("$isArray", vec![list.clone()]), kept, list])
    }
}

/// A filter of all of these: one document, where they ask nothing of the same.
fn one_of_all(filters: Vec<Node>) -> Node {
    let mut parts = Vec::new();
    for filter in filters {
        match filter {
            Node::Document(mut members) => match (members.len(), members.pop()) {
                (1, Some((word, Node::List(inner)))) if word == "$and" => parts.extend(inner),
                (_, last) => {
                    members.extend(last);
                    parts.push(Node::Document(members));
                }
            },
            other => parts.push(other),
        }
    }
    let mut asked: Vec<(String, Node)> = Vec::new();
    let is_one = parts.iter().all(|part| {
        let Node::Document(members) = part else { return false };
        let is_new = members.iter().all(|(name, _)| asked.iter().all(|(known, _)| known != name));
        asked.extend(members.iter().cloned());
        is_new
    });
    if is_one { Node::Document(asked) } else { apply("$and", parts) }
}

/// Are a column's values numbers without a fraction?
fn is_whole_number(column: &Column) -> bool {
    matches!(column.kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt))
}

/// Is a value a number without a fraction? Of doubles, one that is no other integer as well.
fn whole_number(reference: Node) -> Node {
    let within = vec![
        apply_to("$gte", [reference.clone(), (-MOST_WHOLE).into()]),
        apply_to("$lte", [reference.clone(), MOST_WHOLE.into()]),
        apply_to("$eq", [reference.clone(), apply("$trunc", reference.clone())]),
    ];
    let is_double = is_one_of(reference.clone(), &["double"]);
    let otherwise = apply_to("$cond", [is_double, apply("$and", within), false.into()]);
    apply_to("$cond", [is_one_of(reference, &["int", "long"]), true.into(), otherwise])
}

/// Whether a test is one for nothing: nothing is among no values, also null is not.
fn is_of_nothing(test: &Test) -> Option<Node> {
    let Test::In { operand, .. } = test else { return None };
    Some(match operand {
        Operand::Parameter(parameter) => Node::Bound(Slot::IsEmpty(*parameter)),
        Operand::Constant(Datum::List(items)) => items.is_empty().into(),
        Operand::Constant(_) | Operand::Value(_) => false.into(),
    })
}

/// A test of equality as the collection's own collation means it, where every row that passes the exact one passes it; none of
/// another.
fn loosely(test: &Test) -> Option<Test> {
    match test {
        Test::Compare { comparison: Comparison::Eq, operand, .. } if !matches!(operand, Operand::Value(_)) => {
            let (comparison, operand) = (Comparison::Eq, operand.clone());
            Some(Test::Compare { comparison, operand, by: TextComparison::Collation })
        }
        Test::In { operand, .. } => Some(Test::In { operand: operand.clone(), by: TextComparison::Collation }),
        _ => None,
    }
}

/// Have two texts the same bytes? The collation of a collection has no say in where one is found in the other.
fn same_bytes([one, other]: [Node; 2]) -> Node {
    let found = apply_to("$eq", [apply_to("$indexOfBytes", [one.clone(), other.clone()]), 0.into()]);
    let sizes = [one, other].map(|text| apply("$strLenBytes", text));
    apply("$and", vec![found, apply_to("$eq", sizes)])
}

/// The types of what is not there.
const ABSENT: &[&str] = &["missing", "null", "undefined"];

/// Is a value's type one of these?
fn is_one_of(reference: Node, types: &[&str]) -> Node {
    let found = apply("$type", reference);
    match types {
        [only] => apply_to("$eq", [found, (*only).into()]),
        several => apply_to("$in", [found, several.iter().map(|name| Node::from(*name)).collect::<Vec<_>>().into()]),
    }
}

fn is_none_of(reference: Node, types: &[&str]) -> Node {
    apply("$not", vec![is_one_of(reference, types)])
}

/// A list, and an empty one where it is none.
fn or_empty(list: Node) -> Node {
    apply_to("$cond", [apply("$isArray", vec![list.clone()]), list, Vec::new().into()])
}

/// A filter that every document passes, or none.
fn constant(value: bool) -> Node {
    if value { Node::Document(Vec::new()) } else { apply("$expr", false) }
}

/// The field of what a hop leads to that holds a masked column as it is shown.
fn shown(column: ColumnId) -> String {
    format!("{COMPUTED}m{column}")
}

/// The variables for both sides of what is calculated or compared.
const LEFT: &str = "left";
const RIGHT: &str = "right";

fn of_let(side: &str) -> Node {
    format!("$${side}").into()
}

/// An expression of two numbers, each of which is said once.
fn with_sides([left, right]: [Node; 2], of: Node) -> Node {
    apply("$let", document([("vars", document([(LEFT, left), (RIGHT, right)])), ("in", of)]))
}

/// A value as a number that rules calculate with: null where it is of another type, or has more digits.
fn within_digits(value: Node, typed: Node) -> Node {
    let most = 10_f64.powi(i32::try_from(MOST_DIGITS).unwrap_or(i32::MAX));
    let below = apply_to("$lt", [value.clone(), Node::Fixed(Bson::Double(most))]);
    let above = apply_to("$gt", [value.clone(), Node::Fixed(Bson::Double(-most))]);
    let is_number = apply("$and", vec![typed, below, above]);
    apply_to("$cond", [is_number, apply("$toDecimal", value), Node::NULL])
}

fn slot(operand: &Operand, column: &Column) -> Slot {
    match operand {
        Operand::Parameter(parameter) => Slot::Value(*parameter, Conversion::compared(column)),
        Operand::Constant(datum) => Slot::Constant(datum.clone(), Conversion::compared(column)),
        // Only comparisons take values of the row, and write them themselves.
        Operand::Value(_) => Slot::Constant(Datum::Null, Conversion::Scalar(Scalar::Json)),
    }
}

fn list_slot(operand: &Operand, column: &Column) -> Slot {
    match operand {
        Operand::Parameter(parameter) => Slot::List(*parameter, Conversion::compared(column)),
        Operand::Constant(Datum::List(items)) => {
            Slot::Constant(Datum::List(items.clone()), Conversion::compared(column))
        }
        Operand::Constant(one) => Slot::Constant(Datum::List(vec![one.clone()]), Conversion::compared(column)),
        Operand::Value(_) => Slot::Constant(Datum::List(Vec::new()), Conversion::Scalar(Scalar::Json)),
    }
}

fn pattern(operand: &Operand, matching: Matching) -> Node {
    match operand {
        Operand::Parameter(parameter) => Node::Bound(Slot::Pattern(*parameter, matching)),
        Operand::Constant(datum) => matching.pattern(datum).into(),
        Operand::Value(_) => matching.pattern(&Datum::Null).into(),
    }
}

fn options(ignore_case: bool) -> (String, Node) {
    ("$options".to_owned(), if ignore_case { "i" } else { "" }.into())
}

fn operator(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Eq => "$eq",
        Comparison::Ne => "$ne",
        Comparison::Lt => "$lt",
        Comparison::Lte => "$lte",
        Comparison::Gt => "$gt",
        Comparison::Gte => "$gte",
    }
}

/// What holds of two values of a type exactly where the other does not.
fn negation(comparison: Comparison) -> Comparison {
    match comparison {
        Comparison::Eq => Comparison::Ne,
        Comparison::Ne => Comparison::Eq,
        Comparison::Lt => Comparison::Gte,
        Comparison::Lte => Comparison::Gt,
        Comparison::Gt => Comparison::Lte,
        Comparison::Gte => Comparison::Lt,
    }
}
