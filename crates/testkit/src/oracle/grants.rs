//! Random grants, as somebody would write them into a project file, and random claims; beside them the view that the
//! oracle expects, with every rule as what it means for these claims.
//!
//! The rules are written in CEL and stated as conditions by the same draw, so that no code of the product stands between:
//! what a claim comes to is known by how it was made up, not by converting it.

use std::sync::Arc;

use puente_core::access::{
    Arithmetic, Comparison, Condition, Hop, Masks, Number, Operand, Path, Quantifier, Test, TextComparison, TextTest,
    TypeView, View, WriteGrant,
};
use puente_core::model::{Cardinality, Column, FieldType, ITEM_COLUMN, TypeId};
use puente_core::value::{Datum, Scalar, StorageFormat};
use rand::{Rng as _, RngExt as _, SeedableRng as _};
use serde_json::{Map, Value as Json, json};

use super::ask::Random;
use super::interpret::leaf;
use super::world::World;

/// The role whose grants are drawn.
pub const ROLE: &str = "walker";

/// A rule as it is written, and what it means.
type Rule = (String, Condition);

/// Random grants of one role.
#[derive(Debug)]
pub struct Granted {
    /// The tables of the project file.
    pub text: String,
    /// What is believed of who asks.
    pub claims: Map<String, Json>,
    /// What the oracle expects the role to see.
    pub view: View,
}

/// Draws the grants of a role; with `writes`, of one that may also write. From the same seed, another `variant` draws the same
/// grants for somebody with other claims, as far as those leave them the same.
pub fn random_grants(random: &mut Random, world: &World, writes: bool, variant: u64) -> Granted {
    let mut drawing = Drawing { random, world, claims: Map::new(), variables: 0, variant, is_claim: false };
    let readable: Vec<bool> = world.model.types.iter().map(|t| t.items_of.is_none() && drawing.chance(0.92)).collect();
    let mut items: Vec<Option<TypeView>> = vec![None; world.model.types.len()];
    // Some grants are taken over from another role.
    let included = drawing.chance(0.2);
    let mut text = if included { format!("[role.{ROLE}]\ninclude = [\"base\"]\n") } else { String::new() };
    let name = if included { "base" } else { ROLE };
    text.push_str(&format!("[role.{name}]\n"));
    let types = (0..world.model.types.len()).map(|of| {
        if !readable[of] {
            return None;
        }
        let (mut view, mut lines) = drawing.read(of, &readable, if writes { 0.25 } else { 0.5 }, &mut items);
        if writes && world.model.types[of].writable {
            lines.push_str(&drawing.writes(of, &mut view));
        }
        text.push_str(&lines.replace("[role.ROLE.", &format!("[role.{name}.")));
        Some(view)
    });
    let types: Vec<Option<TypeView>> = types.collect();
    let types = types.into_iter().zip(items).map(|(own, of_items)| own.or(of_items)).collect();
    Granted { text, claims: drawing.claims, view: View::new(ROLE, Arc::clone(&world.model), types) }
}

struct Drawing<'a> {
    random: &'a mut Random,
    world: &'a World,
    claims: Map<String, Json>,
    variables: usize,
    variant: u64,
    /// Does the value drawn last come as a claim?
    is_claim: bool,
}

impl Drawing<'_> {
    /// Draws what differs between variants, or does not. Whatever the draw takes, what is drawn after it is the same.
    fn apart<T>(&mut self, varies: bool, draw: impl FnOnce(&mut Self) -> T) -> T {
        let seed = self.random.next_u64() ^ if varies { self.variant } else { 0 };
        let outer = std::mem::replace(self.random, Random::seed_from_u64(seed));
        let drawn = draw(self);
        *self.random = outer;
        drawn
    }

    fn chance(&mut self, chance: f64) -> bool {
        self.random.random_bool(chance)
    }

    fn pick<T: Clone>(&mut self, of: &[T]) -> Option<T> {
        let at = self.random.random_range(0..of.len().max(1));
        of.get(at).cloned()
    }

    /// What a grant of a JSON column shows of it: all that is inside, or some of its members.
    fn inside(
        &mut self,
        (of, column): (TypeId, usize),
        view: &mut TypeView,
        items: &mut [Option<TypeView>],
        fields: &mut Vec<String>,
    ) {
        let t = &self.world.model.types[of];
        let members: Vec<usize> = t.members(column).map(|(member, _)| member).collect();
        if members.is_empty() || self.chance(0.6) {
            fields.push(t.columns[column].label().to_owned());
            self.show((of, column), Some(view), items);
            return;
        }
        for member in members {
            if self.chance(0.5) {
                fields.push(t.columns[member].label().to_owned());
                view.columns[column] = true;
                self.show((of, member), Some(view), items);
            }
        }
    }

    /// Shows a column and all that is inside of it.
    fn show(&self, (of, column): (TypeId, usize), mut view: Option<&mut TypeView>, items: &mut [Option<TypeView>]) {
        let model = &self.world.model;
        let t = &model.types[of];
        match &mut view {
            Some(view) => view.columns[column] = true,
            None => items[of].get_or_insert_with(|| TypeView::nothing(model, of)).columns[column] = true,
        }
        for (member, _) in t.members(column) {
            self.show((of, member), view.as_deref_mut(), items);
        }
        if let FieldType::Items(list) = t.columns[column].kind {
            for (member, _) in model.types[list].members(ITEM_COLUMN) {
                self.show((list, member), None, items);
            }
        }
    }

    fn read(
        &mut self,
        of: TypeId,
        readable: &[bool],
        ruled: f64,
        items: &mut [Option<TypeView>],
    ) -> (TypeView, String) {
        let world = self.world;
        let t = &world.model.types[of];
        let mut view = TypeView::whole(&world.model, of);
        (view.create, view.update, view.delete) = (None, None, None);
        let mut fields = Vec::new();
        view.columns.fill(false);
        for column in (0..t.columns.len()).filter(|column| t.columns[*column].member.is_none()) {
            if !self.random.random_bool(0.9) {
                continue;
            }
            if t.columns[column].form == StorageFormat::JsonValue {
                self.inside((of, column), &mut view, items, &mut fields);
            } else {
                view.columns[column] = true;
                fields.extend(t.columns[column].field.clone());
            }
        }
        for (link, granted) in view.links.iter_mut().enumerate() {
            let l = &t.links[link];
            let reachable = readable[l.target] && l.through.as_ref().is_none_or(|through| readable[through.join]);
            *granted = reachable && self.random.random_bool(0.9);
            fields.extend(granted.then(|| l.field.clone()));
        }
        let is_whole = view.columns.iter().chain(&view.links).all(|shown| *shown);
        let all = is_whole && self.chance(0.5);
        let listed = if all { "\"all\"".to_owned() } else { json!(fields).to_string() };
        let mut text = format!("[role.ROLE.{}.read]\nfields = {listed}\n", t.name);
        if self.chance(ruled) {
            let (cel, meaning) = self.rule(of, "row", 2);
            text.push_str(&format!("rows = '''{cel}'''\n"));
            view.rows = Some(Arc::new(meaning));
        }
        let mut masks = Vec::new();
        for column in self.maskable(of) {
            if view.columns[column] && self.chance(0.15) {
                let (cel, meaning) = self.rule(of, "row", 1);
                let field = t.columns[column].label();
                text.push_str(&format!("masks.\"{field}\" = '''{cel}'''\n"));
                self.mask((of, column), &Arc::new(meaning), &mut masks);
            }
        }
        view.masks = Masks::from(masks);
        view.count = self.chance(0.9);
        if !view.count {
            text.push_str("count = false\n");
        }
        if self.chance(0.2) {
            view.max_page = Some(5);
            text.push_str("max_page = 5\n");
        }
        (view, text)
    }

    /// Masks a column and all that is inside of it.
    fn mask(&self, (of, column): (TypeId, usize), meaning: &Arc<Condition>, masks: &mut Vec<(usize, Arc<Condition>)>) {
        match masks.iter_mut().find(|(masked, _)| *masked == column) {
            Some((_, known)) => {
                *known = Arc::new(Condition::And(vec![(**known).clone(), (**meaning).clone()]));
            }
            None => masks.push((column, Arc::clone(meaning))),
        }
        for (member, _) in self.world.model.types[of].members(column) {
            self.mask((of, member), meaning, masks);
        }
    }

    /// Columns that are neither part of a key nor followed by a link.
    fn maskable(&self, of: TypeId) -> Vec<usize> {
        let types = &self.world.model.types;
        let is_followed = |column: usize| {
            types.iter().enumerate().any(|(id, t)| {
                t.links.iter().any(|link| {
                    let own = id == of && link.pairs.iter().any(|(own, _)| *own == column);
                    let other = link.target == of && link.pairs.iter().any(|(_, other)| *other == column);
                    own || other
                        || link.through.as_ref().is_some_and(|through| {
                            (id == of && through.near.iter().any(|(own, _)| *own == column))
                                || (link.target == of && through.far.iter().any(|(_, other)| *other == column))
                                || (through.join == of
                                    && (through.near.iter().any(|(_, join)| *join == column)
                                        || through.far.iter().any(|(join, _)| *join == column)))
                        })
                })
            })
        };
        let keyed = |column: usize| types[of].keys.iter().any(|key| key.columns.contains(&column));
        (0..types[of].columns.len()).filter(|column| !is_followed(*column) && !keyed(*column)).collect()
    }

    fn writes(&mut self, of: TypeId, view: &mut TypeView) -> String {
        let name = self.world.model.types[of].name.clone();
        let mut text = String::new();
        if self.chance(0.85) {
            let (grant, lines) = self.write(of, false);
            text.push_str(&format!("[role.ROLE.{name}.create]\n{lines}"));
            view.create = Some(grant);
        }
        if self.chance(0.85) {
            let (grant, lines) = self.write(of, true);
            let t = &self.world.model.types[of];
            let settable = (0..t.columns.len()).any(|column| {
                grant.columns[column]
                    && t.columns[column].member.is_none()
                    && !t.columns[column].input.computed
                    && !grant.fixed.iter().any(|(fixed, _)| *fixed == column)
            });
            if settable {
                text.push_str(&format!("[role.ROLE.{name}.update]\n{lines}"));
                view.update = Some(grant);
            }
        }
        if self.chance(0.85) {
            let (rows, line) = self.some_rule(of, "rows", 0.3);
            text.push_str(&format!("[role.ROLE.{name}.delete]\n{line}"));
            view.delete = Some(WriteGrant { rows, ..WriteGrant::default() });
        }
        text
    }

    fn some_rule(&mut self, of: TypeId, word: &str, chance: f64) -> (Option<Arc<Condition>>, String) {
        if !self.chance(chance) {
            return (None, String::new());
        }
        let (cel, meaning) = self.rule(of, "row", 2);
        (Some(Arc::new(meaning)), format!("{word} = '''{cel}'''\n"))
    }

    /// A grant to create, or to update.
    fn write(&mut self, of: TypeId, updates: bool) -> (WriteGrant, String) {
        let world = self.world;
        let t = &world.model.types[of];
        // A row that lacks what it needs is refused for that alone, which says little; less may be changed than created.
        let granted = if updates { 0.8 } else { 0.92 };
        let (mut columns, mut fields) = (vec![false; t.columns.len()], Vec::new());
        for column in (0..t.columns.len()).filter(|column| t.columns[*column].member.is_none()) {
            let c = &t.columns[column];
            if !c.input.is_given(updates) || !self.random.random_bool(granted) {
                continue;
            }
            let members: Vec<usize> = t.members(column).map(|(member, _)| member).collect();
            let parts: Vec<usize> = match members.is_empty() || self.chance(0.6) {
                true => vec![column],
                false => members.into_iter().filter(|_| self.chance(0.6)).collect(),
            };
            for part in parts {
                let part = (of, part);
                let all = world.model.within(part).into_iter().chain(world.model.around(part));
                all.filter(|(inside, _)| *inside == of).for_each(|(_, column)| columns[column] = true);
                fields.extend(t.columns[part.1].field.is_some().then(|| t.columns[part.1].label()));
            }
        }
        let mut text = format!("fields = {}\n", json!(fields));
        let (rows, line) = if updates { self.some_rule(of, "rows", 0.3) } else { (None, String::new()) };
        text.push_str(&line);
        let (check, line) = self.some_rule(of, "check", 0.25);
        text.push_str(&line);
        let mut fixed = Vec::new();
        let free: Vec<usize> = (0..t.columns.len())
            .filter(|column| {
                !t.keys.iter().any(|key| key.columns.contains(column))
                    && t.columns[*column].input.is_given(updates)
                    && t.columns[*column].form != StorageFormat::JsonValue
            })
            .collect();
        let linked = self.linked_value(of, &free);
        if let Some((column, cel, path)) = linked {
            text.push_str(&format!(
                "fixed = {{ {} = '''{cel}''' }}\n",
                t.columns[column].field.as_deref().unwrap_or_default()
            ));
            fixed.push((column, Operand::Value(path)));
        } else if self.chance(0.15)
            && let Some(column) = self.pick(&free)
            && let Some((json, cell)) = self.known(of, column)
        {
            let c = &t.columns[column];
            let cel = if self.is_claim {
                let name = self.new_claim();
                self.claims.insert(name.clone(), json);
                format!("claims.{name}")
            } else {
                literal(c, &json)
            };
            text.push_str(&format!("fixed = {{ {} = '''{cel}''' }}\n", c.field.as_deref().unwrap_or_default()));
            fixed.push((column, Operand::Constant(cell)));
        }
        (WriteGrant { columns, rows, check, fixed }, text)
    }

    /// One of the columns that takes the value of a linked row, now and then; with the value in CEL.
    fn linked_value(&mut self, of: TypeId, free: &[usize]) -> Option<(usize, String, Path)> {
        if !self.chance(0.2) {
            return None;
        }
        let world = self.world;
        let t = &world.model.types[of];
        let follows = |column: usize| t.links.iter().any(|link| link.pairs.iter().any(|(own, _)| *own == column));
        // What else becomes of keys, of links and of what must not be null is looked at where values are given.
        let free = free.iter().copied().filter(|column| !follows(*column) && t.columns[*column].nullable);
        let column = self.pick(&free.collect::<Vec<_>>())?;
        let links = (0..t.links.len()).filter(|link| {
            let link = &t.links[*link];
            link.cardinality == Cardinality::One && link.through.is_none() && !link.crosses && link.target != of
        });
        let link = self.pick(&links.collect::<Vec<_>>())?;
        let target = &world.model.types[t.links[link].target];
        let alike = |other: &usize| {
            let (from, to) = (&target.columns[*other], &t.columns[column]);
            (from.kind, from.form, from.input.range, from.input.length)
                == (to.kind, to.form, to.input.range, to.input.length)
                && from.member.is_none()
                && !matches!(from.kind, FieldType::List(_) | FieldType::Scalar(Scalar::Json | Scalar::Decimal))
        };
        let other = self.pick(&(0..target.columns.len()).filter(alike).collect::<Vec<_>>())?;
        let cel = format!("row.{}.{}", t.links[link].field, target.columns[other].label());
        Some((column, cel, Path { hops: vec![hop(of, link)], column: other, masked: false }))
    }

    /// A rule about rows of a type, which `variable` stands for.
    fn rule(&mut self, of: TypeId, variable: &str, depth: u32) -> Rule {
        let t = &self.world.model.types[of];
        let links = |cardinality| -> Vec<usize> {
            // No rule leads to another source.
            let is_meant = |link: &usize| t.links[*link].cardinality == cardinality && !t.links[*link].crosses;
            (0..t.links.len()).filter(is_meant).collect()
        };
        match self.random.random_range(0..12) {
            0 if depth > 0 => {
                let (one, other) = (self.rule(of, variable, depth - 1), self.rule(of, variable, depth - 1));
                (format!("({} && {})", one.0, other.0), Condition::And(vec![one.1, other.1]))
            }
            1 | 2 if depth > 0 => {
                let (one, other) = (self.rule(of, variable, depth - 1), self.rule(of, variable, depth - 1));
                (format!("({} || {})", one.0, other.0), Condition::Or(vec![one.1, other.1]))
            }
            3 if depth > 0 => {
                let (cel, meaning) = self.rule(of, variable, depth - 1);
                (format!("!({cel})"), Condition::Not(Box::new(meaning)))
            }
            4 if depth > 0 && self.chance(0.5) => {
                let lists = (0..t.columns.len()).filter_map(|column| match t.columns[column].kind {
                    FieldType::Items(items) => Some((column, items)),
                    _ => None,
                });
                let Some((column, items)) = self.pick(&lists.collect::<Vec<_>>()) else {
                    return self.test(of, variable, Vec::new());
                };
                let (quantifier, word) =
                    if self.chance(0.5) { (Quantifier::Exists, "exists") } else { (Quantifier::All, "all") };
                self.variables += 1;
                let inner = format!("x{}", self.variables);
                let (cel, meaning) = self.rule(items, &inner, depth - 1);
                let path = Path { hops: Vec::new(), column, masked: false };
                let label = t.columns[column].label();
                (
                    format!("{variable}.{label}.{word}({inner}, {cel})"),
                    Condition::OverItems { path, quantifier, inner: Box::new(meaning) },
                )
            }
            4 | 5 if depth > 0 => {
                let Some(link) = self.pick(&links(Cardinality::Many)) else {
                    return self.test(of, variable, Vec::new());
                };
                let l = &t.links[link];
                let (quantifier, word) =
                    if self.chance(0.5) { (Quantifier::Exists, "exists") } else { (Quantifier::All, "all") };
                self.variables += 1;
                let inner = format!("x{}", self.variables);
                let (cel, meaning) = self.rule(l.target, &inner, depth - 1);
                let hop = hop(of, link);
                let inner_meaning = Box::new(meaning);
                (
                    format!("{variable}.{}.{word}({inner}, {cel})", l.field),
                    Condition::Quantified { before: Vec::new(), hop, quantifier, inner: inner_meaning },
                )
            }
            6 | 7 => match self.pick(&links(Cardinality::One)) {
                Some(link) => {
                    let l = &t.links[link];
                    self.test(l.target, &format!("{variable}.{}", l.field), vec![hop(of, link)])
                }
                None => self.test(of, variable, Vec::new()),
            },
            8 => self.fact(),
            _ => self.test(of, variable, Vec::new()),
        }
    }

    /// A test of a column of the row that `row` stands for, at the end of some hops.
    fn test(&mut self, of: TypeId, row: &str, hops: Vec<Hop>) -> Rule {
        let world = self.world;
        let t = &world.model.types[of];
        // The item of a list is nothing that is tested itself.
        let columns: Vec<usize> =
            (0..t.columns.len()).filter(|column| t.items_of.is_none() || *column != ITEM_COLUMN).collect();
        let Some(column) = self.pick(&columns) else { return self.fact() };
        let c = &t.columns[column];
        let field = format!("{row}.{}", c.label());
        let path = Path { hops, column, masked: false };
        let stated = |test| Condition::Test { path: path.clone(), test };
        let Some((json, cell)) = self.known(of, column).filter(|_| self.random.random_bool(0.85)) else {
            let is_list = matches!(c.kind, FieldType::Items(_));
            return match self.random.random_range(if is_list { 2 } else { 0 }..3) {
                0 => (format!("{field} == null"), stated(Test::IsNull(true))),
                1 => (format!("{field} != null"), stated(Test::IsNull(false))),
                _ => (format!("has({field})"), stated(Test::IsNull(false))),
            };
        };
        let is_text = c.kind == FieldType::Scalar(Scalar::String);
        let by = if is_text { TextComparison::Exact } else { TextComparison::Collation };
        if is_number(c.kind) && self.chance(0.35) {
            return self.numbers(of, row, &path.hops);
        }
        if matches!(c.kind, FieldType::Scalar(Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime))
            && c.member.is_none()
            && self.chance(0.35)
        {
            return self.times(of, row, (&path, &field));
        }
        match self.random.random_range(0..10) {
            0 if is_text => {
                let (comparison, word) = self.comparison();
                let size = self.random.random_range(0..4);
                (format!("size({field}) {word} {size}"), stated(Test::Size { comparison, size }))
            }
            1 if is_text => {
                let (test, word) = [
                    (TextTest::Contains, "contains"),
                    (TextTest::StartsWith, "startsWith"),
                    (TextTest::EndsWith, "endsWith"),
                ][self.random.random_range(0..3)];
                let (cel, operand) = self.operand(c, json, cell);
                let meaning = operand.map(|operand| stated(Test::Text { test, operand, ignore_case: false }));
                (format!("{field}.{word}({cel})"), meaning.unwrap_or(Condition::ClaimPredicate(0)))
            }
            2 | 3 => {
                let (cel, operand) = self.list(of, column, (json, cell));
                let meaning = operand.map(|operand| stated(Test::In { operand, by }));
                (format!("{field} in {cel}"), meaning.unwrap_or(Condition::ClaimPredicate(0)))
            }
            4 => {
                let same = |other: &Column| {
                    (other.kind, &other.collation, other.form) == (c.kind, &c.collation, c.form)
                        && other.is_comparable()
                };
                let alike: Vec<usize> = (0..t.columns.len()).filter(|other| same(&t.columns[*other])).collect();
                let Some(other) = self.pick(&alike) else { return self.fact() };
                let (comparison, word) = self.comparison();
                let beside = Path { column: other, ..path.clone() };
                let named = format!("{row}.{}", t.columns[other].label());
                let operand = Operand::Value(beside);
                (format!("{field} {word} {named}"), stated(Test::Compare { comparison, operand, by }))
            }
            _ => {
                let (comparison, word) = self.comparison();
                let (cel, operand) = self.operand(c, json, cell);
                let meaning = operand.map(|operand| stated(Test::Compare { comparison, operand, by }));
                let meaning = meaning.unwrap_or(Condition::ClaimPredicate(0));
                if self.chance(0.2) {
                    let mirrored = comparison_word(comparison.mirrored());
                    return (format!("{cel} {mirrored} {field}"), meaning);
                }
                (format!("{field} {word} {cel}"), meaning)
            }
        }
    }

    /// A comparison of numbers that are calculated of a row's.
    fn numbers(&mut self, of: TypeId, row: &str, hops: &[Hop]) -> Rule {
        let (comparison, word) = self.comparison();
        let (one, other) = (self.calculated(of, row, hops, 1), self.number(of, row, hops, 0));
        let ((left_cel, left, _), (right_cel, right, _)) = if self.chance(0.5) { (one, other) } else { (other, one) };
        let meaning = match (left, right) {
            (Some(left), Some(right)) => Condition::Numbers { left, comparison, right },
            _ => Condition::ClaimPredicate(0),
        };
        (format!("{left_cel} {word} {right_cel}"), meaning)
    }

    /// A comparison of a time with another one of the row, some days apart.
    fn times(&mut self, of: TypeId, row: &str, (path, field): (&Path, &str)) -> Rule {
        let t = &self.world.model.types[of];
        let kind = t.columns[path.column].kind;
        let alike: Vec<usize> = (0..t.columns.len())
            .filter(|other| t.columns[*other].kind == kind && t.columns[*other].member.is_none())
            .collect();
        let other = self.pick(&alike).unwrap_or(path.column);
        let beside = format!("{row}.{}", t.columns[other].label());
        let hours = [1, 24, 24 * 31][self.random.random_range(0..3)];
        let (comparison, word) = self.comparison();
        let one = Number::Time(path.clone());
        let other = Number::Time(Path { column: other, ..path.clone() });
        let span = Number::Constant(Datum::Text((i64::from(hours) * 3_600_000_000).to_string()));
        let [left, right, span] = [one, other, span].map(Box::new);
        if self.chance(0.5) {
            let right = Number::Calculated { arithmetic: Arithmetic::Add, left: right, right: span };
            let meaning = Condition::Numbers { left: *left, comparison, right };
            return (format!("{field} {word} {beside} + duration('{hours}h')"), meaning);
        }
        let left = Number::Calculated { arithmetic: Arithmetic::Subtract, left, right };
        let meaning = Condition::Numbers { left, comparison, right: *span };
        (format!("{field} - {beside} {word} duration('{hours}h')"), meaning)
    }

    /// At most three are multiplied with each other, as rules allow.
    fn calculated(&mut self, of: TypeId, row: &str, hops: &[Hop], depth: usize) -> Calculated {
        use Arithmetic::{Add, Divide, Multiply, Remainder, Subtract};
        let ((left_cel, left, left_whole), (right_cel, right, right_whole)) =
            (self.number(of, row, hops, depth), self.number(of, row, hops, 0));
        let whole = left_whole && right_whole;
        let all = [Add, Subtract, Multiply, Divide, Remainder];
        let arithmetic = all[self.random.random_range(0..if whole { 5 } else { 3 })];
        let number = left.zip(right).map(|(left, right)| Number::Calculated {
            arithmetic,
            left: Box::new(left),
            right: Box::new(right),
        });
        (format!("({left_cel} {} {right_cel})", arithmetic.sign()), number, whole)
    }

    fn number(&mut self, of: TypeId, row: &str, hops: &[Hop], depth: usize) -> Calculated {
        let t = &self.world.model.types[of];
        let numbers: Vec<usize> = (0..t.columns.len()).filter(|column| is_number(t.columns[*column].kind)).collect();
        match (self.random.random_range(0..8), self.pick(&numbers)) {
            (0, _) => {
                let whole = self.random.random_range(0..4);
                (whole.to_string(), Some(Number::Constant(Datum::Integer(whole))), true)
            }
            (1, _) => ("1.5".to_owned(), Some(Number::Constant(Datum::Text("1.5".to_owned()))), false),
            (2, _) => {
                let name = self.new_claim();
                let claims =
                    [(json!(2), Some("2")), (json!("2.25"), Some("2.25")), (json!("two"), None), (json!(true), None)];
                let (claim, number) = claims[self.random.random_range(0..claims.len())].clone();
                self.claims.insert(name.clone(), claim);
                let number = number.map(|text| Number::Constant(Datum::Text(text.to_owned())));
                (format!("claims.{name}"), number, false)
            }
            (3, _) if depth > 0 => self.calculated(of, row, hops, depth - 1),
            (_, Some(column)) => {
                let path = Path { hops: hops.to_vec(), column, masked: false };
                let is_whole = matches!(t.columns[column].kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt));
                (format!("{row}.{}", t.columns[column].label()), Some(Number::Value(path)), is_whole)
            }
            (_, None) => ("1".to_owned(), Some(Number::Constant(Datum::Integer(1))), true),
        }
    }

    fn comparison(&mut self) -> (Comparison, &'static str) {
        let all = [Comparison::Eq, Comparison::Ne, Comparison::Lt, Comparison::Lte, Comparison::Gt, Comparison::Gte];
        let comparison = all[self.random.random_range(0..all.len())];
        (comparison, comparison_word(comparison))
    }

    /// A value that some row has in a column and that can be stated: in the form of JSON, and as it is stored.
    fn known(&mut self, of: TypeId, column: usize) -> Option<(Json, Datum)> {
        self.is_claim = self.chance(0.5);
        self.known_again(of, column)
    }

    /// Another value that comes as the one before.
    fn known_again(&mut self, of: TypeId, column: usize) -> Option<(Json, Datum)> {
        self.apart(self.is_claim, |drawing| drawing.stored(of, column))
    }

    fn stored(&mut self, of: TypeId, column: usize) -> Option<(Json, Datum)> {
        let rows = &self.world.rows[of];
        let cell = rows.get(self.random.random_range(0..rows.len().max(1)))?[column].clone();
        let kind = self.world.model.types[of].columns[column].kind;
        let plain = matches!(
            kind,
            FieldType::Enum(_)
                | FieldType::Scalar(
                    Scalar::Int
                        | Scalar::BigInt
                        | Scalar::String
                        | Scalar::Float
                        | Scalar::Bytes
                        | Scalar::Boolean
                        | Scalar::Date
                )
        );
        if cell == Datum::Null || !plain {
            return None;
        }
        let json = match (kind, &cell) {
            // An enum's value goes by its text or by its name.
            (FieldType::Enum(_), Datum::Text(text)) if self.chance(0.7) => Json::from(text.clone()),
            _ => serde_json::from_str(&leaf(&self.world.model, kind, &cell)?).ok()?,
        };
        Some((json, cell))
    }

    fn new_claim(&mut self) -> String {
        self.variables += 1;
        format!("c{}", self.variables)
    }

    /// A value as a rule states it, or as a claim; none where the claim is none that the column could be compared with.
    fn operand(&mut self, column: &Column, json: Json, cell: Datum) -> (String, Option<Operand>) {
        if !self.is_claim {
            return (literal(column, &json), Some(Operand::Constant(cell)));
        }
        let name = self.new_claim();
        let written = format!("claims.{name}");
        if self.chance(0.3) {
            if let Some(unfit) = self.unfit(column) {
                self.claims.insert(name, unfit);
            }
            return (written, None);
        }
        let json = self.in_some_form(json);
        self.claims.insert(name, json);
        (written, Some(Operand::Constant(cell)))
    }

    /// A number may also come as its plain text.
    fn in_some_form(&mut self, json: Json) -> Json {
        match &json {
            Json::Number(number) if number.is_i64() && self.chance(0.5) => Json::from(number.to_string()),
            _ => json,
        }
    }

    /// A claim that a column cannot be compared with; none, an absent one.
    fn unfit(&mut self, column: &Column) -> Option<Json> {
        let odd = match column.kind {
            FieldType::Scalar(Scalar::Int | Scalar::BigInt) => {
                vec![json!("07"), json!("+7"), json!(7.5), json!(true), json!(" 7"), json!("seven")]
            }
            FieldType::Scalar(Scalar::Boolean) => vec![json!("true"), json!(1), json!("yes")],
            FieldType::Scalar(Scalar::Float) => vec![json!("much"), json!(true)],
            FieldType::Scalar(Scalar::Date) => vec![json!("soon"), json!(20_260_131), json!("2026-02-30")],
            FieldType::Scalar(Scalar::Bytes) => vec![json!("%%"), json!(7)],
            FieldType::Enum(_) => vec![json!("no such value"), json!(7)],
            _ => vec![json!(7), json!(false)],
        };
        let mut all = odd;
        all.extend([Json::Null, json!(["a"]), json!({ "a": "b" })]);
        let at = self.random.random_range(0..=all.len());
        all.get(at).cloned()
    }

    /// A list as a rule states it, or as a claim.
    fn list(&mut self, of: TypeId, column: usize, first: (Json, Datum)) -> (String, Option<Operand>) {
        let c = &self.world.model.types[of].columns[column];
        let mut items = vec![first];
        for _ in 0..self.random.random_range(0..3) {
            items.extend(self.known_again(of, column));
        }
        if self.chance(0.1) {
            items.clear();
        }
        let cells = items.iter().map(|(_, cell)| cell.clone()).collect();
        if !self.is_claim {
            let written: Vec<String> = items.iter().map(|(json, _)| literal(c, json)).collect();
            return (format!("[{}]", written.join(", ")), Some(Operand::Constant(Datum::List(cells))));
        }
        let name = self.new_claim();
        let written = format!("claims.{name}");
        let mut values: Vec<Json> = items.into_iter().map(|(json, _)| json).collect();
        for value in &mut values {
            *value = self.in_some_form(value.take());
        }
        let fits = match self.random.random_range(0..10) {
            0 => {
                // One item that is none makes the whole list unknown.
                values.push(Json::Null);
                false
            }
            1 => {
                values.push(json!({ "a": 1 }));
                false
            }
            2 => return (written, None),
            3 => {
                self.claims.insert(name, values.first().cloned().unwrap_or_default());
                return (written, None);
            }
            _ => true,
        };
        self.claims.insert(name, Json::Array(values));
        (written, fits.then_some(Operand::Constant(Datum::List(cells))))
    }

    /// A condition on the claims alone.
    fn fact(&mut self) -> Rule {
        let name = self.new_claim();
        let value = match self.apart(true, |drawing| drawing.random.random_range(0..8)) {
            0 => Some(json!(true)),
            1 => Some(json!(false)),
            2 => Some(json!("a")),
            3 => Some(json!(["a", "b"])),
            4 => Some(json!(["b", null])),
            5 => Some(Json::Null),
            6 => Some(json!(3)),
            _ => None,
        };
        if let Some(value) = &value {
            self.claims.insert(name.clone(), value.clone());
        }
        let (cel, decided) = match self.random.random_range(0..6) {
            0 => (format!("claims.{name}"), value.as_ref().and_then(Json::as_bool)),
            1 => (format!("has(claims.{name})"), Some(value.as_ref().is_some_and(|value| !value.is_null()))),
            2 => {
                let text = value.as_ref().and_then(Json::as_str);
                (format!("claims.{name} == 'a'"), text.map(|text| text == "a"))
            }
            3 => {
                let list = value.as_ref().and_then(Json::as_array);
                let whole = list.filter(|items| items.iter().all(Json::is_string));
                (format!("'a' in claims.{name}"), whole.map(|items| items.contains(&json!("a"))))
            }
            4 => (format!("claims.{name} == null"), value.as_ref().map(Json::is_null)),
            _ => {
                let size = match &value {
                    Some(Json::String(text)) => Some(text.chars().count()),
                    Some(Json::Array(items)) => Some(items.len()),
                    _ => None,
                };
                (format!("size(claims.{name}) > 1"), size.map(|size| size > 1))
            }
        };
        (cel, decided.map_or(Condition::ClaimPredicate(0), Condition::Constant))
    }
}

fn hop(from: TypeId, link: usize) -> Hop {
    Hop { from, link, visible: None, join_visible: None, masks: Masks::default() }
}

/// A value as CEL writes it.
fn literal(column: &Column, json: &Json) -> String {
    match (column.kind, json) {
        (FieldType::Scalar(Scalar::Float), Json::Number(number)) => {
            format!("{:?}", number.as_f64().unwrap_or_default())
        }
        _ => json.to_string(),
    }
}

/// A number that is calculated: in CEL, what it is (none where a claim is unknown), and whether it is whole.
type Calculated = (String, Option<Number>, bool);

fn is_number(kind: FieldType) -> bool {
    matches!(kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Decimal | Scalar::Float))
}

fn comparison_word(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Eq => "==",
        Comparison::Ne => "!=",
        Comparison::Lt => "<",
        Comparison::Lte => "<=",
        Comparison::Gt => ">",
        Comparison::Gte => ">=",
    }
}
