//! Rules: CEL ([specification](https://github.com/google/cel-spec)) parsed by the `cel` crate, checked against the model
//! and turned into a [`Condition`]. `row` is the row, `claims` the caller's claims, `now` the time of the request.
//!
//! ```text
//! text ─► Expr (cel) ─► Term (what a part of it stands for, with its type) ─► Condition
//! ```
//!
//! A rule's names resolve against the whole model, also what the role itself may not read; a column without a field goes
//! by its own name.

use cel::common::ast::{CallExpr, ComprehensionExpr, Expr, IdedExpr, LiteralValue, SourceInfo, operators};
use cel::parser::Parser;
use jiff::SignedDuration;
use serde_json::Value as Json;

use super::claims::{ClaimPath, ClaimPredicate, ClaimShape, ClaimSource, ClaimTerm, ClaimValue, TimeOrigin, TimeTerm};
use super::number::Counted;
use super::{
    Arithmetic, Comparison, Condition, Hop, Masks, Number, Operand, Path, Quantifier, Test, TextComparison, TextTest,
};
use crate::model::{Cardinality, Column, ColumnId, Element, FieldType, Link, Model, Type, TypeId};
use crate::project::{Mistake, Renamed, RuleText};
use crate::suggest::did_you_mean;
use crate::value::{Datum, Scalar, StorageFormat, datum_from_json, instant};

/// Collects what the rules of one role take from the claims.
#[derive(Debug, Default)]
pub(super) struct ClaimRegistry {
    pub(super) values: Vec<ClaimValue>,
    pub(super) claim_predicates: Vec<ClaimPredicate>,
    /// Comparisons in a column's own collation that the rule being read says: where in it, and what they mean.
    loose: Vec<(usize, String)>,
    /// The same of all rules, each with its place in the project file.
    pub(super) loose_rules: Vec<Mistake>,
}

/// Turns a rule about rows of a type into a condition.
///
/// # Errors
/// What is wrong with it, and where in the project file.
pub(super) fn compile(
    model: &Model,
    of: TypeId,
    rule: &RuleText,
    registry: &mut ClaimRegistry,
) -> Result<Condition, Mistake> {
    within(model, of, rule, registry, |compiler, expression| compiler.condition(expression))
}

/// Turns the text of a fixed value into what is set: a claim, the time of the request, what is stated, or the value of a row
/// that is linked.
///
/// # Errors
/// As for a rule.
pub(super) fn compile_value(
    model: &Model,
    (of, column): (TypeId, usize),
    rule: &RuleText,
    registry: &mut ClaimRegistry,
) -> Result<Operand, Mistake> {
    within(model, of, rule, registry, |compiler, expression| {
        let column = &model.types[of].columns[column];
        match compiler.term(expression)? {
            Term::Claim(path) => Ok(compiler.value(ClaimSource::Claim(path), column, shape_of(column))),
            Term::Time(time) => compiler.time(time, column, expression),
            Term::Constant(Json::Null) if column.nullable => Ok(Operand::Constant(Datum::Null)),
            Term::Constant(value) => compiler.constant(column, &value, expression).map(Operand::Constant),
            Term::Column { path, of: owner } if !path.hops.is_empty() => {
                compiler.linked(path, owner, column, expression).map(Operand::Value)
            }
            _ => Err(compiler.wrong(
                expression,
                "a fixed value is a claim such as `claims.sub`, a time such as `now`, a constant, or the field of a row that is \
                 linked, such as `row.product.price`",
            )),
        }
    })
}

/// The time of the request, as a column keeps it.
pub(super) fn time_of_request(column: &Column, registry: &mut ClaimRegistry) -> Operand {
    let from = ClaimSource::Time(TimeTerm::now());
    let value = ClaimValue { from, kind: column.kind, form: column.form, shape: ClaimShape::One };
    Operand::Parameter(number_of(&mut registry.values, value))
}

/// How many values of a claim a column takes.
fn shape_of(column: &Column) -> ClaimShape {
    if matches!(column.kind, FieldType::List(_)) { ClaimShape::List } else { ClaimShape::One }
}

/// A rule about rows of a type of a model, with the names that things have now.
pub(super) fn with_names(model: &Model, of: TypeId, rule: &str, renamed: &Renamed) -> String {
    let mut now = String::new();
    let mut done = 0;
    for (start, end) in names(rule) {
        let is_called = |name: &str| name.rsplit('.').next() == Some(&rule[start..end]);
        if !renamed.fields.iter().any(|(_, before, _)| is_called(before)) {
            continue;
        }
        // What a name is about is told by what is said of one that nothing has, in its place.
        let probe = format!("{}{NOBODYS}{}", &rule[..start], &rule[end..]);
        let Some((t, missing)) = missing(model, of, &probe) else { continue };
        let around = missing.rsplit_once('.').map_or(String::new(), |(around, _)| format!("{around}."));
        let before = format!("{around}{}", &rule[start..end]);
        let is_it = |(known, name, _): &&(String, String, String)| *known == model.types[t].name && *name == before;
        if let Some((_, _, name)) = renamed.fields.iter().find(is_it) {
            now.push_str(&rule[done..start]);
            now.push_str(name.rsplit('.').next().unwrap_or(name));
            done = end;
        }
    }
    now.push_str(&rule[done..]);
    now
}

/// A name that no field has.
const NOBODYS: &str = "nobodys_name_1f6";

/// The type that lacks a name of a rule, and the name.
fn missing(model: &Model, of: TypeId, rule: &str) -> Option<(TypeId, String)> {
    let (expression, source) = Parser::new().max_recursion_depth(DEEPEST).parse_with_source_info(rule).ok()?;
    let mut registry = ClaimRegistry::default();
    let scope = Scope { name: "row".to_owned(), of };
    let mut compiler = Compiler { model, registry: &mut registry, scope, source: &source, choices: Choices::default() };
    compiler.condition(&expression).err()?.missing.filter(|(_, name)| name.ends_with(NOBODYS))
}

/// Where in a rule names stand behind a dot, outside of texts: from one byte to another.
fn names(rule: &str) -> Vec<(usize, usize)> {
    let bytes = rule.as_bytes();
    let is_of_name = |at: usize| bytes.get(at).is_some_and(|byte| byte.is_ascii_alphanumeric() || *byte == b'_');
    let (mut found, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        match bytes[at] {
            quote @ (b'"' | b'\'') => {
                at += 1;
                while at < bytes.len() && bytes[at] != quote {
                    at += if bytes[at] == b'\\' { 2 } else { 1 };
                }
                at += 1;
            }
            b'.' => {
                let start = at + 1;
                at = start;
                while is_of_name(at) {
                    at += 1;
                }
                if at > start && !bytes[start].is_ascii_digit() {
                    found.push((start, at));
                }
            }
            _ => at += 1,
        }
    }
    found
}

/// Deeper nesting than any rule has; the parser descends by calling itself.
const DEEPEST: u16 = 48;

fn within<T>(
    model: &Model,
    of: TypeId,
    rule: &RuleText,
    registry: &mut ClaimRegistry,
    compile: impl FnOnce(&mut Compiler<'_>, &IdedExpr) -> Result<T, Wrong>,
) -> Result<T, Mistake> {
    let parsed = Parser::new().max_recursion_depth(DEEPEST).parse_with_source_info(&rule.text);
    let (expression, source) = parsed.map_err(|errors| {
        let error = errors.errors.first();
        let (line, column) = error.map_or((1, 1), |error| error.pos);
        let at = |number: isize| usize::try_from(number).unwrap_or_default();
        let text = error.map_or_else(|| "it cannot be read".to_owned(), |error| plain(&error.msg));
        Mistake { place: rule.place_at(at(line), at(column)), text: format!("not a rule in CEL: {text}") }
    })?;
    let scope = Scope { name: "row".to_owned(), of };
    let mut compiler = Compiler { model, registry, scope, source: &source, choices: Choices::default() };
    let compiled = compile(&mut compiler, &expression);
    for (offset, text) in std::mem::take(&mut registry.loose) {
        registry.loose_rules.push(Mistake { place: rule.place_of(offset), text });
    }
    compiled.map_err(|wrong| Mistake { place: rule.place_of(wrong.offset), text: wrong.text })
}

/// The first line of a parser's message, in which it lists what it would have taken.
fn plain(message: &str) -> String {
    let line = message.lines().next().unwrap_or_default();
    let said = line.split(" expecting ").next().unwrap_or_default().trim_start_matches("Syntax error: ");
    let found = |text: &str| text.split('\'').nth(1).unwrap_or_default().to_owned();
    match said {
        _ if said.contains("'<EOF>'") => {
            "it ends where more is expected: a value, or a bracket that closes what is open".to_owned()
        }
        _ if said.starts_with("extraneous input") => format!("`{}` is one too many", found(said)),
        _ if said.starts_with("mismatched input") => format!("`{}` cannot stand here", found(said)),
        _ if said.starts_with("token recognition error") => {
            format!("`{}` cannot be read; a text ends with the quote with which it began", found(said))
        }
        _ if said.starts_with("no viable alternative") => format!("`{}` has no meaning", found(said)),
        _ => said.to_owned(),
    }
}

/// A mistake at a place in the rule.
struct Wrong {
    /// In characters from the beginning.
    offset: usize,
    text: String,
    /// The name that a type does not have, where that is what is wrong.
    missing: Option<(TypeId, String)>,
}

/// The variable whose rows a condition is about.
#[derive(Clone)]
struct Scope {
    name: String,
    of: TypeId,
}

struct Compiler<'a> {
    model: &'a Model,
    registry: &'a mut ClaimRegistry,
    scope: Scope,
    source: &'a SourceInfo,
    choices: Choices,
}

/// How many choices (`? :`) there are so far, and inside the conditions of how many what is being read stands: a condition is
/// asked twice, and so is all that is in it.
#[derive(Default)]
struct Choices {
    made: usize,
    within: usize,
}

/// Choices of one rule.
const MOST_CHOICES: usize = 256;
/// Choices inside the conditions of others.
const MOST_CHOICES_WITHIN: usize = 4;

/// What a part of a rule stands for.
enum Term {
    /// A column's value.
    Column { path: Path, of: TypeId },
    /// The row itself, or the one at the end of to-one links.
    Row { hops: Vec<Hop>, of: TypeId },
    /// The rows at the end of a to-many link.
    Rows { before: Vec<Hop>, hop: Hop },
    /// The items of a list inside JSON.
    Items { path: Path, items: TypeId },
    /// All claims.
    Claims,
    /// One claim.
    Claim(ClaimPath),
    /// A time that the request decides.
    Time(TimeTerm),
    /// How long something takes.
    Duration(SignedDuration),
    /// A column's time, so much later.
    Later { path: Path, of: TypeId, later: SignedDuration },
    /// A number that is calculated.
    Number(Counted),
    /// The time between two others, of which one is a column's: in microseconds.
    Span(Counted),
    /// The size of something.
    Size(Box<Term>),
    /// What the rule states; a list too.
    Constant(Json),
}

impl Term {
    /// Can it be calculated with? A claim may be.
    fn may_be_number(&self, model: &Model) -> bool {
        match self {
            Term::Number(_) | Term::Claim(_) | Term::Constant(Json::Number(_)) => true,
            Term::Column { path, of } => is_number(model.types[*of].columns[path.column].kind),
            Term::Row { .. }
            | Term::Rows { .. }
            | Term::Items { .. }
            | Term::Claims
            | Term::Time(_)
            | Term::Duration(_)
            | Term::Later { .. }
            | Term::Span(_)
            | Term::Size(_)
            | Term::Constant(_) => false,
        }
    }

    /// Is it a time of a row?
    fn is_time_of_row(&self, model: &Model) -> bool {
        match self {
            Term::Column { path, of } => is_time(model.types[*of].columns[path.column].kind),
            Term::Later { .. } => true,
            _ => false,
        }
    }

    fn describe(&self, model: &Model) -> String {
        match self {
            Term::Column { path, of } => {
                let column = &model.types[*of].columns[path.column];
                let list = if matches!(column.kind, FieldType::List(_)) { "a list of " } else { "" };
                format!("{list}`{}`", model.kind_name(column.kind))
            }
            Term::Items { items, .. } => format!("a list of `{}`", model.types[*items].name),
            Term::Row { of, .. } => format!("a row of `{}`", model.types[*of].name),
            Term::Rows { hop, .. } => {
                format!("rows of `{}`", model.types[model.types[hop.from].links[hop.link].target].name)
            }
            Term::Claims => "all claims".to_owned(),
            Term::Claim(_) => "a claim".to_owned(),
            Term::Time(_) => "a time".to_owned(),
            Term::Duration(_) => "a duration".to_owned(),
            Term::Later { path, of, .. } => {
                format!("a time later than `{}`", model.types[*of].columns[path.column].label())
            }
            Term::Number(_) => "a number that is calculated".to_owned(),
            Term::Span(_) => "the time between two others".to_owned(),
            Term::Size(_) => "a size".to_owned(),
            Term::Constant(value) => crate::value::describe_json(value),
        }
    }
}

/// The function that compares texts in the column's own collation.
const SAME_AS: &str = "sameAs";

const FUNCTIONS: &str = "rules know && || ! == != < <= > >= in, … ? … : …, has(), size(), sameAs(), startsWith(), endsWith(), \
                         contains(), + - * / % of numbers, timestamp() and duration() with + and -, and exists() and all() over links to many and \
                         lists of objects";

impl Compiler<'_> {
    fn wrong(&self, at: &IdedExpr, text: impl Into<String>) -> Wrong {
        let offset = self.source.offset_for(at.id).map_or(0, |(start, _)| start as usize);
        Wrong { offset, text: text.into(), missing: None }
    }

    fn condition(&mut self, expression: &IdedExpr) -> Result<Condition, Wrong> {
        match &expression.expr {
            Expr::Call(call) => match (call.func_name.as_str(), call.args.as_slice()) {
                (operators::LOGICAL_AND, [one, other]) => {
                    Ok(Condition::And(vec![self.condition(one)?, self.condition(other)?]))
                }
                (operators::LOGICAL_OR, [one, other]) => {
                    Ok(Condition::Or(vec![self.condition(one)?, self.condition(other)?]))
                }
                (operators::LOGICAL_NOT, [inner]) => Ok(Condition::Not(Box::new(self.condition(inner)?))),
                (operators::CONDITIONAL, [condition, one, other]) => {
                    self.choice(condition, |compiler| compiler.condition(one), |compiler| compiler.condition(other))
                }
                (operators::IN, [one, list]) => self.membership(one, list),
                (SAME_AS, [one, other]) if call.target.is_none() => self.same(one, other),
                (name, [one, other]) if comparison(name).is_some() => {
                    self.comparison(comparison(name).unwrap_or(Comparison::Eq), one, other)
                }
                (name, [part]) if text_test(name).is_some() && call.target.is_some() => {
                    self.text(call, text_test(name).unwrap_or(TextTest::Contains), part)
                }
                _ => self.bare(expression),
            },
            Expr::Select(select) if select.test => self.presence(&select.operand, &select.field, expression),
            Expr::Comprehension(comprehension) => self.quantified(comprehension, expression),
            _ => self.bare(expression),
        }
    }

    /// `condition ? one : other`. Where the condition is unknown, so is what comes of it.
    fn choice(
        &mut self,
        condition: &IdedExpr,
        one: impl FnOnce(&mut Self) -> Result<Condition, Wrong>,
        other: impl FnOnce(&mut Self) -> Result<Condition, Wrong>,
    ) -> Result<Condition, Wrong> {
        self.choices.made += 1;
        if self.choices.made > MOST_CHOICES || self.choices.within >= MOST_CHOICES_WITHIN {
            let text = format!(
                "a rule takes at most {MOST_CHOICES} choices (`? :`), and {MOST_CHOICES_WITHIN} of them inside the conditions of \
                 others; say it with `&&` and `||`"
            );
            return Err(self.wrong(condition, text));
        }
        self.choices.within += 1;
        let condition = self.condition(condition);
        self.choices.within -= 1;
        let condition = condition?;
        let not = negated(condition.clone());
        let (one, other) = (one(self)?, other(self)?);
        Ok(Condition::Or(vec![Condition::And(vec![condition, one]), Condition::And(vec![not, other])]))
    }

    /// A value that is a condition by itself: true, a column of `Boolean`, a claim.
    fn bare(&mut self, expression: &IdedExpr) -> Result<Condition, Wrong> {
        match self.term(expression)? {
            Term::Constant(Json::Bool(value)) => Ok(Condition::Constant(value)),
            Term::Claim(path) => Ok(self.claim_predicate(ClaimPredicate::Holds(path))),
            Term::Column { path, of }
                if self.model.types[of].columns[path.column].kind == FieldType::Scalar(Scalar::Boolean) =>
            {
                Ok(tested(path, equal(Operand::Constant(Datum::Integer(1)))))
            }
            other => {
                let text =
                    format!("expected a condition, found {}; compare it with something", other.describe(self.model));
                Err(self.wrong(expression, text))
            }
        }
    }

    fn term(&mut self, expression: &IdedExpr) -> Result<Term, Wrong> {
        match &expression.expr {
            Expr::Ident(name) => self.variable(name, expression),
            Expr::Select(select) if !select.test => {
                let of = self.term(&select.operand)?;
                self.member(of, &select.field, expression)
            }
            Expr::Literal(literal) => self.literal(literal, expression).map(Term::Constant),
            Expr::List(list) => {
                let mut items = Vec::new();
                for item in &list.elements {
                    match self.term(item)? {
                        Term::Constant(value) if !value.is_null() => items.push(value),
                        _ => return Err(self.wrong(item, "a list in a rule holds constants other than null")),
                    }
                }
                Ok(Term::Constant(Json::Array(items)))
            }
            Expr::Call(call) => self.called(call, expression),
            _ => Err(self.wrong(expression, format!("this has no meaning in a rule; {FUNCTIONS}"))),
        }
    }

    fn called(&mut self, call: &CallExpr, expression: &IdedExpr) -> Result<Term, Wrong> {
        match (call.func_name.as_str(), call.args.as_slice(), &call.target) {
            (operators::INDEX, [of, member], _) => {
                let of = self.term(of)?;
                match (of, self.term(member)?) {
                    (of @ (Term::Claims | Term::Claim(_)), Term::Constant(Json::String(name))) => {
                        self.member(of, &name, expression)
                    }
                    _ => {
                        Err(self.wrong(expression, "only claims take `[…]`, with a name in quotes: `claims[\"sub\"]`"))
                    }
                }
            }
            (operators::NEGATE, [inner], _) => match self.term(inner)? {
                Term::Constant(Json::Number(number)) => {
                    let negated: Option<Json> = serde_json::from_str(&format!("-{number}")).ok();
                    negated.map(Term::Constant).ok_or_else(|| self.wrong(expression, "this is not a number"))
                }
                term => {
                    let zero = Counted::leaf(Number::Constant(Datum::Text("0".to_owned())), true);
                    let number = self.number(term, inner)?;
                    self.calculated(zero, Arithmetic::Subtract, number, expression).map(Term::Number)
                }
            },
            (operators::ADD, [one, other], _) => self.sum(one, other, false, expression),
            (operators::SUBSTRACT, [one, other], _) => self.sum(one, other, true, expression),
            (operators::MULTIPLY, [one, other], _) => self.product(one, Arithmetic::Multiply, other, expression),
            (operators::DIVIDE, [one, other], _) => self.product(one, Arithmetic::Divide, other, expression),
            (operators::MODULO, [one, other], _) => self.product(one, Arithmetic::Remainder, other, expression),
            ("duration", [text], None) => self.duration(text),
            ("timestamp", [time], None) => self.timestamp(time),
            ("size", [of], None) => self.size(of),
            ("size", [], Some(of)) => self.size(of),
            (name, ..) => {
                let known = [
                    "has",
                    "size",
                    SAME_AS,
                    "startsWith",
                    "endsWith",
                    "contains",
                    "exists",
                    "all",
                    "duration",
                    "timestamp",
                ];
                let hint = did_you_mean(name, known);
                let name = name.trim_matches(|c: char| c == '_' || c == '@');
                Err(self.wrong(expression, format!("`{name}` has no meaning here{hint}; {FUNCTIONS}")))
            }
        }
    }

    /// `row.price * row.nights`, `row.beds / 2`.
    fn product(
        &mut self,
        one: &IdedExpr,
        arithmetic: Arithmetic,
        other: &IdedExpr,
        at: &IdedExpr,
    ) -> Result<Term, Wrong> {
        let (left, right) = (self.term(one)?, self.term(other)?);
        let (left, right) = (self.number(left, one)?, self.number(right, other)?);
        self.calculated(left, arithmetic, right, at).map(Term::Number)
    }

    fn calculated(
        &self,
        left: Counted,
        arithmetic: Arithmetic,
        right: Counted,
        at: &IdedExpr,
    ) -> Result<Counted, Wrong> {
        left.with(arithmetic, right).map_err(|text| self.wrong(at, text))
    }

    /// What a claim gives to calculate with.
    fn counted_claim(&mut self, from: ClaimSource, is_whole: bool) -> Counted {
        let kind = FieldType::Scalar(Scalar::Decimal);
        let value = ClaimValue { from, kind, form: StorageFormat::Usual, shape: ClaimShape::One };
        Counted::leaf(Number::Parameter(number_of(&mut self.registry.values, value)), is_whole)
    }

    /// What is calculated with.
    fn number(&mut self, term: Term, at: &IdedExpr) -> Result<Counted, Wrong> {
        match term {
            Term::Number(number) => Ok(number),
            Term::Column { path, of } if is_number(self.kind_of(&path, of)) => {
                let is_whole = matches!(self.kind_of(&path, of), FieldType::Scalar(Scalar::Int | Scalar::BigInt));
                Ok(Counted::leaf(Number::Value(path), is_whole))
            }
            Term::Claim(path) => Ok(self.counted_claim(ClaimSource::Number(path), false)),
            Term::Constant(value @ Json::Number(_)) => {
                let is_whole = value.is_i64() || value.is_u64();
                datum_from_json(Scalar::Decimal, StorageFormat::Usual, &value)
                    .map(|cell| Counted::leaf(Number::Constant(cell), is_whole))
                    .map_err(|_| self.wrong(at, "a number is calculated with as digits, without an exponent"))
            }
            other => {
                let found = other.describe(self.model);
                Err(self.wrong(at, format!("rules calculate with numbers, found {found}; {FUNCTIONS}")))
            }
        }
    }

    /// `now + duration("24h")`, `row.startsOn - duration("30m")`, `row.beds - row.guests`.
    fn sum(&mut self, one: &IdedExpr, other: &IdedExpr, is_minus: bool, at: &IdedExpr) -> Result<Term, Wrong> {
        let too_long = |compiler: &Self| compiler.wrong(at, "this is longer than can be counted");
        let (left, right) = (self.term(one)?, self.term(other)?);
        let arithmetic = if is_minus { Arithmetic::Subtract } else { Arithmetic::Add };
        let (time, duration) = match (left, right) {
            (left, right) if is_minus && self.are_times(&left, &right) => {
                let (left, right) = (self.instant(left, one)?, self.instant(right, other)?);
                return self.calculated(left, arithmetic, right, at).map(Term::Span);
            }
            (Term::Span(left), right) => {
                let right = self.span(right, other)?;
                return self.calculated(left, arithmetic, right, at).map(Term::Span);
            }
            (Term::Duration(_), Term::Span(_)) => {
                return Err(self
                    .wrong(at, "a duration stands behind the time between two others: `row.b - row.a + duration(…)`"));
            }
            (Term::Duration(one), Term::Duration(other)) => {
                let sum = if is_minus { one.checked_sub(other) } else { one.checked_add(other) };
                return sum.map(Term::Duration).ok_or_else(|| too_long(self));
            }
            (time, Term::Duration(duration)) => (time, if is_minus { -duration } else { duration }),
            (Term::Duration(duration), time) if !is_minus => (time, duration),
            (left, right) if left.may_be_number(self.model) && right.may_be_number(self.model) => {
                let (left, right) = (self.number(left, one)?, self.number(right, other)?);
                return self.calculated(left, arithmetic, right, at).map(Term::Number);
            }
            (one, other) => {
                let text = format!(
                    "`+` and `-` take two numbers, or a time and a duration, found {} and {}",
                    one.describe(self.model),
                    other.describe(self.model)
                );
                return Err(self.wrong(at, text));
            }
        };
        match time {
            Term::Time(time) => time.plus(duration).map(Term::Time).ok_or_else(|| too_long(self)),
            Term::Later { path, of, later } => {
                let later = later.checked_add(duration).ok_or_else(|| too_long(self))?;
                Ok(Term::Later { path, of, later })
            }
            Term::Column { path, of } if is_time(self.kind_of(&path, of)) => {
                Ok(Term::Later { path, of, later: duration })
            }
            other => {
                let text = format!("a duration is added to a time, found {}", other.describe(self.model));
                Err(self.wrong(at, format!("{text}; a claim is one as `timestamp(claims.…)`")))
            }
        }
    }

    /// Are both times, and at least one a row's?
    fn are_times(&self, one: &Term, other: &Term) -> bool {
        let is_time = |term: &Term| matches!(term, Term::Time(_)) || term.is_time_of_row(self.model);
        is_time(one) && is_time(other) && !matches!((one, other), (Term::Time(_), Term::Time(_)))
    }

    /// A time that is calculated with.
    fn instant(&mut self, term: Term, at: &IdedExpr) -> Result<Counted, Wrong> {
        let (path, of, later) = match term {
            Term::Column { path, of } => (path, of, SignedDuration::ZERO),
            Term::Later { path, of, later } => (path, of, later),
            Term::Time(time) => return Ok(self.counted_claim(ClaimSource::Microseconds(time), true)),
            other => {
                return Err(self.wrong(at, format!("expected a time, found {}", other.describe(self.model))));
            }
        };
        let column = &self.model.types[of].columns[path.column];
        if column.member.is_some() && column.form == StorageFormat::JsonValue {
            let text = format!(
                "`{}` is a text inside JSON; times are calculated with where a column has them",
                column.label()
            );
            return Err(self.wrong(at, text));
        }
        let time = Counted::leaf(Number::Time(path), true);
        if later.is_zero() {
            return Ok(time);
        }
        let later = self.span(Term::Duration(later), at)?;
        self.calculated(time, Arithmetic::Add, later, at)
    }

    /// How long something takes, in microseconds.
    fn span(&self, term: Term, at: &IdedExpr) -> Result<Counted, Wrong> {
        match term {
            Term::Span(span) => Ok(span),
            Term::Duration(duration) => {
                let microseconds = Datum::Text(duration.as_micros().to_string());
                Ok(Counted::leaf(Number::Constant(microseconds), true))
            }
            other => {
                let found = other.describe(self.model);
                Err(self
                    .wrong(at, format!("the time between two others meets durations and such times, found {found}")))
            }
        }
    }

    fn duration(&mut self, text: &IdedExpr) -> Result<Term, Wrong> {
        const EXPECTED: &str =
            "`duration` takes a text such as \"36h\", \"1h30m\" or \"90s\"; units are h, m, s, ms, us and ns";
        let is_of_units = |c: char| c.is_ascii_digit() || matches!(c, '.' | '-' | 'h' | 'm' | 's' | 'u' | 'n');
        match self.term(text)? {
            Term::Constant(Json::String(said)) if !said.is_empty() && said.chars().all(is_of_units) => {
                said.parse().map(Term::Duration).map_err(|_| self.wrong(text, EXPECTED))
            }
            _ => Err(self.wrong(text, EXPECTED)),
        }
    }

    fn timestamp(&mut self, time: &IdedExpr) -> Result<Term, Wrong> {
        const EXPECTED: &str = "`timestamp` takes a claim, or a text such as \"2026-07-14T08:00:00Z\"";
        let from = match self.term(time)? {
            Term::Claim(path) => TimeOrigin::Claim(path),
            Term::Constant(Json::String(text)) => {
                TimeOrigin::Stated(instant(&text).ok_or_else(|| self.wrong(time, EXPECTED))?)
            }
            _ => return Err(self.wrong(time, EXPECTED)),
        };
        Ok(Term::Time(TimeTerm { from, later: SignedDuration::ZERO }))
    }

    fn size(&mut self, of: &IdedExpr) -> Result<Term, Wrong> {
        match self.term(of)? {
            Term::Claim(path) => Ok(Term::Size(Box::new(Term::Claim(path)))),
            Term::Column { path, of: owner }
                if matches!(self.kind_of(&path, owner), FieldType::Scalar(Scalar::String) | FieldType::List(_)) =>
            {
                Ok(Term::Size(Box::new(Term::Column { path, of: owner })))
            }
            other => {
                let text = format!(
                    "`size` takes a text, a list of values or a claim, found {}; of rows, ask `exists` or `all`",
                    other.describe(self.model)
                );
                Err(self.wrong(of, text))
            }
        }
    }

    fn variable(&mut self, name: &str, at: &IdedExpr) -> Result<Term, Wrong> {
        if name == self.scope.name {
            return Ok(Term::Row { hops: Vec::new(), of: self.scope.of });
        }
        match name {
            "claims" => Ok(Term::Claims),
            "now" => Ok(Term::Time(TimeTerm::now())),
            "row" => {
                let text = format!(
                    "inside `exists` and `all` a condition is about `{}`; `row` cannot be reached from there",
                    self.scope.name
                );
                Err(self.wrong(at, text))
            }
            _ => {
                let known = [self.scope.name.as_str(), "claims", "now"];
                let hint = did_you_mean(name, known);
                Err(self.wrong(at, format!("`{name}` is not known{hint}; a rule speaks of {}", known.join(", "))))
            }
        }
    }

    fn member(&mut self, of: Term, name: &str, at: &IdedExpr) -> Result<Term, Wrong> {
        match of {
            Term::Claims => Ok(Term::Claim(vec![name.to_owned()])),
            Term::Claim(mut path) => {
                path.push(name.to_owned());
                Ok(Term::Claim(path))
            }
            Term::Row { mut hops, of } => {
                let t = &self.model.types[of];
                if let Some(column) = t.column_called(name) {
                    return Ok(self.column(hops, of, column));
                }
                if let Some((link, l)) = t.links.iter().enumerate().find(|(_, l)| l.field == name) {
                    if l.crosses {
                        return Err(self.wrong(at, self.crossing(t, l)));
                    }
                    if t.items_of.is_some() {
                        let text = format!("a rule follows no link from inside a list: `{name}` of `{}`", t.name);
                        return Err(self.wrong(at, format!("{text}; compare its key instead")));
                    }
                    let hop = Hop { from: of, link, visible: None, join_visible: None, masks: Masks::default() };
                    return Ok(match l.cardinality {
                        Cardinality::One => {
                            hops.push(hop);
                            Term::Row { hops, of: l.target }
                        }
                        Cardinality::Many => Term::Rows { before: hops, hop },
                    });
                }
                let fields = t.columns.iter().map(Column::label);
                let hint = self.model.field_hint(name, fields.chain(t.links.iter().map(|l| l.field.as_str())));
                let wrong = self.wrong(at, format!("`{}` has no field or link `{name}`{hint}", t.name));
                Err(Wrong { missing: Some((of, name.to_owned())), ..wrong })
            }
            Term::Column { path, of } if matches!(self.kind_of(&path, of), FieldType::Object(_)) => {
                let t = &self.model.types[of];
                let mut members = t.members(path.column);
                match members.find(|(_, member)| member.field.as_deref() == Some(name)) {
                    Some((column, _)) => Ok(self.column(path.hops, of, column)),
                    None => {
                        let known = t.members(path.column).filter_map(|(_, member)| member.field.as_deref());
                        let hint = did_you_mean(name, known);
                        let label = t.columns[path.column].label();
                        let wrong = self.wrong(at, format!("`{label}` has no member `{name}`{hint}"));
                        Err(Wrong { missing: Some((of, format!("{label}.{name}"))), ..wrong })
                    }
                }
            }
            Term::Rows { .. } | Term::Items { .. } => {
                let text = format!("`.{name}` of many: ask `.exists(x, x.{name} …)` or `.all(x, x.{name} …)`");
                Err(self.wrong(at, text))
            }
            other => Err(self.wrong(at, format!("{} has no member `{name}`", other.describe(self.model)))),
        }
    }

    fn column(&self, hops: Vec<Hop>, of: TypeId, column: ColumnId) -> Term {
        let path = Path { hops, column, masked: false };
        match self.kind_of(&path, of) {
            FieldType::Items(items) => Term::Items { path, items },
            _ => Term::Column { path, of },
        }
    }

    fn kind_of(&self, path: &Path, of: TypeId) -> FieldType {
        self.model.types[of].columns[path.column].kind
    }

    /// What is to be done about a rule that leads to another source.
    fn crossing(&self, t: &Type, link: &Link) -> String {
        format!(
            "`{}.{}` leads to the source `{}`, and a rule is judged by the database that has the rows: compare {} with a \
             claim, or copy what decides into this source",
            t.name,
            link.field,
            self.model.sources[self.model.types[link.target].source],
            t.link_columns(link)
        )
    }

    fn literal(&self, literal: &LiteralValue, at: &IdedExpr) -> Result<Json, Wrong> {
        Ok(match literal {
            LiteralValue::Null => Json::Null,
            LiteralValue::Boolean(value) => Json::Bool(*value.inner()),
            LiteralValue::Int(value) => Json::from(*value.inner()),
            LiteralValue::UInt(value) => Json::from(*value.inner()),
            LiteralValue::Double(value) => Json::from(*value.inner()),
            LiteralValue::String(value) => Json::from(value.inner()),
            LiteralValue::Bytes(_) => {
                return Err(self.wrong(at, "bytes are written in base64, as text: `row.digest == \"AP8=\"`"));
            }
        })
    }

    fn comparison(&mut self, comparison: Comparison, left: &IdedExpr, right: &IdedExpr) -> Result<Condition, Wrong> {
        for (side, is_left) in [(left, true), (right, false)] {
            let Some((condition, one, other)) = conditional(side) else { continue };
            let compare = |value| {
                move |compiler: &mut Self| match is_left {
                    true => compiler.comparison(comparison, value, right),
                    false => compiler.comparison(comparison, left, value),
                }
            };
            return self.choice(condition, compare(one), compare(other));
        }
        let (one, other) = (self.term(left)?, self.term(right)?);
        match (one, other) {
            (one, other)
                if one.is_time_of_row(self.model)
                    && other.is_time_of_row(self.model)
                    && matches!((&one, &other), (Term::Later { .. }, _) | (_, Term::Later { .. })) =>
            {
                let (one, other) = (self.instant(one, left)?, self.instant(other, right)?);
                Ok(Condition::Numbers { left: one.number, comparison, right: other.number })
            }
            (one, other) if matches!((&one, &other), (Term::Span(_), _) | (_, Term::Span(_))) => {
                let (one, other) = (self.span(one, left)?, self.span(other, right)?);
                Ok(Condition::Numbers { left: one.number, comparison, right: other.number })
            }
            (Term::Later { path, of, later }, Term::Time(time)) => {
                let time = time.plus(-later).ok_or_else(|| self.wrong(left, "this is longer than can be counted"))?;
                self.compare(path, of, comparison, Term::Time(time), right)
            }
            (Term::Time(time), Term::Later { path, of, later }) => {
                let time = time.plus(-later).ok_or_else(|| self.wrong(left, "this is longer than can be counted"))?;
                self.compare(path, of, comparison.mirrored(), Term::Time(time), left)
            }
            (one, other)
                if matches!((&one, &other), (Term::Number(_), _) | (_, Term::Number(_)))
                    && one.may_be_number(self.model)
                    && other.may_be_number(self.model) =>
            {
                let (one, other) = (self.number(one, left)?, self.number(other, right)?);
                Ok(Condition::Numbers { left: one.number, comparison, right: other.number })
            }
            (Term::Time(one), Term::Time(other)) => {
                Ok(self.claim_predicate(ClaimPredicate::Times(one, comparison, other)))
            }
            (Term::Column { path, of }, other) => self.compare(path, of, comparison, other, right),
            (one, Term::Column { path, of }) => self.compare(path, of, comparison.mirrored(), one, left),
            (Term::Row { hops, of }, Term::Constant(Json::Null))
            | (Term::Constant(Json::Null), Term::Row { hops, of })
                if !hops.is_empty() =>
            {
                let missing = self.missing(hops, of);
                self.equality(comparison, left).map(|equal| if equal { missing } else { negated(missing) })
            }
            (Term::Size(inner), other) => self.compare_size(*inner, comparison, other, right),
            (one, Term::Size(inner)) => self.compare_size(*inner, comparison.mirrored(), one, left),
            (Term::Claim(path), Term::Constant(Json::Null)) | (Term::Constant(Json::Null), Term::Claim(path)) => {
                let equal = self.equality(comparison, left)?;
                Ok(self.claim_predicate(ClaimPredicate::IsNull(path, equal)))
            }
            (one @ (Term::Claim(_) | Term::Constant(_)), other @ (Term::Claim(_) | Term::Constant(_)))
                if !matches!((&one, &other), (Term::Constant(_), Term::Constant(_))) =>
            {
                Ok(self.claim_predicate(ClaimPredicate::Compare(claim_term(one), comparison, claim_term(other))))
            }
            (one, other) => {
                let hint = [&one, &other].into_iter().find_map(|term| self.followed(term)).unwrap_or_default();
                let (one, other) = (one.describe(self.model), other.describe(self.model));
                Err(self.wrong(left, format!("{one} cannot be compared with {other}{hint}")))
            }
        }
    }

    /// What a link to one follows, which is what can be compared.
    fn followed(&self, term: &Term) -> Option<String> {
        let Term::Row { hops, .. } = term else { return None };
        let hop = hops.last()?;
        let t = &self.model.types[hop.from];
        Some(format!("; compare what the link follows, {}", t.link_columns(&t.links[hop.link])))
    }

    fn not_comparable(&self, column: &Column) -> String {
        let remedy = if matches!(column.kind, FieldType::Object(_)) { "; compare a member of it" } else { "" };
        format!("`{}` values cannot be compared{remedy}", self.model.kind_name(column.kind))
    }

    /// Is a comparison with null one of equality? Nothing else makes sense.
    fn equality(&self, comparison: Comparison, at: &IdedExpr) -> Result<bool, Wrong> {
        match comparison {
            Comparison::Eq => Ok(true),
            Comparison::Ne => Ok(false),
            _ => Err(self.wrong(at, "null is neither larger nor smaller; ask `== null` or `!= null`")),
        }
    }

    fn compare(
        &mut self,
        path: Path,
        of: TypeId,
        comparison: Comparison,
        other: Term,
        at: &IdedExpr,
    ) -> Result<Condition, Wrong> {
        let by = exact(&self.model.types[of].columns[path.column]);
        self.compare_by(path, of, (comparison, by), other, at)
    }

    /// `sameAs(row.owner, claims.sub)`: the same by the column's own collation.
    fn same(&mut self, one: &IdedExpr, other: &IdedExpr) -> Result<Condition, Wrong> {
        let comparison = (Comparison::Eq, TextComparison::Collation);
        let (left, right) = (self.term(one)?, self.term(other)?);
        let (path, of, with, at) = match (left, right) {
            (Term::Column { path, of }, with) if exact(self.column_of(&path, of)) == TextComparison::Exact => {
                (path, of, with, other)
            }
            (with, Term::Column { path, of }) if exact(self.column_of(&path, of)) == TextComparison::Exact => {
                (path, of, with, one)
            }
            (left, right) => {
                let text = format!(
                    "`sameAs` compares the text of a column in the column's own collation, found {} and {}; of anything else say `==`",
                    left.describe(self.model),
                    right.describe(self.model)
                );
                return Err(self.wrong(one, text));
            }
        };
        let column = self.column_of(&path, of);
        let by = column.collation.as_ref().map_or_else(String::new, |name| format!(", `{name}`"));
        let text = format!(
            "a rule compares `{}.{}` in the column's own collation{by}: texts that it takes for the same are the same caller here; \
             say `==` to compare exactly",
            self.model.types[of].name,
            column.label()
        );
        let offset = self.wrong(at, "").offset;
        self.registry.loose.push((offset, text));
        self.compare_by(path, of, comparison, with, at)
    }

    fn column_of(&self, path: &Path, of: TypeId) -> &'_ Column {
        &self.model.types[of].columns[path.column]
    }

    fn compare_by(
        &mut self,
        path: Path,
        of: TypeId,
        (comparison, by): (Comparison, TextComparison),
        other: Term,
        at: &IdedExpr,
    ) -> Result<Condition, Wrong> {
        let model = self.model;
        let column = &model.types[of].columns[path.column];
        if let Term::Constant(Json::Null) = other {
            return self.equality(comparison, at).map(|expected| tested(path, Test::IsNull(expected)));
        }
        if !column.is_comparable() {
            let text = self.not_comparable(column);
            return Err(self.wrong(at, text));
        }
        let operand = match other {
            Term::Constant(value) => Operand::Constant(self.constant(column, &value, at)?),
            Term::Claim(claim) => self.value(ClaimSource::Claim(claim), column, ClaimShape::One),
            Term::Time(time) => self.time(time, column, at)?,
            Term::Column { path: other, of } => {
                let beside = &model.types[of].columns[other.column];
                if (beside.kind, &beside.collation, beside.form) != (column.kind, &column.collation, column.form) {
                    let text = format!(
                        "`{}` and `{}` are of different types, forms or collations; they cannot be compared",
                        column.name, beside.name
                    );
                    return Err(self.wrong(at, text));
                }
                Operand::Value(other)
            }
            other => {
                let text = format!("`{}` cannot be compared with {}", column.label(), other.describe(model));
                return Err(self.wrong(at, text));
            }
        };
        Ok(tested(path, Test::Compare { comparison, operand, by }))
    }

    fn compare_size(
        &mut self,
        of: Term,
        comparison: Comparison,
        other: Term,
        at: &IdedExpr,
    ) -> Result<Condition, Wrong> {
        let Term::Constant(Json::Number(number)) = &other else {
            return Err(
                self.wrong(at, format!("a size is compared with a number, found {}", other.describe(self.model)))
            );
        };
        match (of, number.as_i64()) {
            (Term::Column { path, .. }, Some(size)) => Ok(tested(path, Test::Size { comparison, size })),
            (Term::Claim(path), Some(size)) => Ok(self.claim_predicate(ClaimPredicate::Compare(
                ClaimTerm::Size(path),
                comparison,
                ClaimTerm::Constant(size.into()),
            ))),
            _ => Err(self.wrong(at, "a size is compared with a whole number")),
        }
    }

    fn membership(&mut self, one: &IdedExpr, list: &IdedExpr) -> Result<Condition, Wrong> {
        let (item, of) = (self.term(one)?, self.term(list)?);
        match (item, of) {
            (Term::Column { path, of }, Term::Constant(Json::Array(items))) => {
                let column = &self.model.types[of].columns[path.column];
                let cells = items.iter().map(|item| self.constant(column, item, list)).collect::<Result<_, _>>()?;
                Ok(among(path, Operand::Constant(Datum::List(cells)), exact(column)))
            }
            (Term::Column { path, of }, Term::Claim(claim)) => {
                let column = &self.model.types[of].columns[path.column];
                if !column.is_comparable() {
                    let text = self.not_comparable(column);
                    return Err(self.wrong(one, text));
                }
                let by = exact(column);
                let operand = self.value(ClaimSource::Claim(claim), column, ClaimShape::List);
                Ok(among(path, operand, by))
            }
            (item, Term::Column { path, of })
                if matches!(self.model.types[of].columns[path.column].kind, FieldType::List(_)) =>
            {
                let column = &self.model.types[of].columns[path.column];
                let operand = match item {
                    Term::Constant(value) => Operand::Constant(Datum::List(vec![self.constant(column, &value, one)?])),
                    Term::Claim(claim) => self.value(ClaimSource::Claim(claim), column, ClaimShape::ListOfOne),
                    other => {
                        let text = format!("{} cannot be looked for in a list", other.describe(self.model));
                        return Err(self.wrong(one, text));
                    }
                };
                Ok(tested(path, Test::Includes { operand, all: true }))
            }
            (item @ (Term::Claim(_) | Term::Constant(_)), list @ (Term::Claim(_) | Term::Constant(Json::Array(_))))
                if !matches!((&item, &list), (Term::Constant(_), Term::Constant(_))) =>
            {
                Ok(self.claim_predicate(ClaimPredicate::In(claim_term(item), claim_term(list))))
            }
            (Term::Number(_), _) => {
                Err(self.wrong(one, "a number that is calculated is compared with == != < <= > >=, not with `in`"))
            }
            (_, of) => {
                let text = format!(
                    "`in` takes a list: one of constants, a claim, or a column that is a list; found {}",
                    of.describe(self.model)
                );
                Err(self.wrong(list, text))
            }
        }
    }

    fn text(&mut self, call: &CallExpr, test: TextTest, part: &IdedExpr) -> Result<Condition, Wrong> {
        let Some(target) = &call.target else { return Err(self.wrong(part, FUNCTIONS)) };
        let whole = self.term(target)?;
        let sought = self.term(part)?;
        match (whole, sought) {
            (Term::Column { path, of }, sought @ (Term::Claim(_) | Term::Constant(Json::String(_))))
                if self.model.types[of].columns[path.column].kind == FieldType::Scalar(Scalar::String) =>
            {
                let column = &self.model.types[of].columns[path.column];
                let operand = match sought {
                    Term::Claim(claim) => self.value(ClaimSource::Claim(claim), column, ClaimShape::One),
                    Term::Constant(value) => Operand::Constant(self.constant(column, &value, part)?),
                    _ => return Err(self.wrong(part, FUNCTIONS)),
                };
                Ok(tested(path, Test::Text { test, operand, ignore_case: false }))
            }
            (whole @ Term::Claim(_), sought @ (Term::Claim(_) | Term::Constant(Json::String(_)))) => {
                Ok(self.claim_predicate(ClaimPredicate::Text(claim_term(whole), test, claim_term(sought))))
            }
            (whole, sought) => {
                let text = format!(
                    "`{}` looks for a text in a text, found {} in {}",
                    call.func_name,
                    sought.describe(self.model),
                    whole.describe(self.model)
                );
                Err(self.wrong(target, text))
            }
        }
    }

    /// `has(…)`: a value that is not null, a link that leads somewhere, a claim that is there.
    fn presence(&mut self, operand: &IdedExpr, field: &str, at: &IdedExpr) -> Result<Condition, Wrong> {
        let of = self.term(operand)?;
        match self.member(of, field, at)? {
            Term::Claim(path) => Ok(self.claim_predicate(ClaimPredicate::Has(path))),
            Term::Column { path, .. } | Term::Items { path, .. } => Ok(tested(path, Test::IsNull(false))),
            Term::Row { hops, of } if !hops.is_empty() => Ok(negated(self.missing(hops, of))),
            Term::Rows { before, hop } => Ok(Condition::Quantified {
                before,
                hop,
                quantifier: Quantifier::Exists,
                inner: Box::new(Condition::Constant(true)),
            }),
            other => {
                Err(self.wrong(at, format!("`has` takes a field or a claim, found {}", other.describe(self.model))))
            }
        }
    }

    /// There is no row at the end of to-one links: what the last of them follows is null there.
    fn missing(&self, hops: Vec<Hop>, of: TypeId) -> Condition {
        let linked = hops.last().and_then(|hop| self.model.types[hop.from].links[hop.link].pairs.first());
        let key = self.model.types[of].row_key().and_then(|key| key.columns.first().copied());
        let column = linked.map(|(_, target)| *target).or(key).unwrap_or_default();
        tested(Path { hops, column, masked: false }, Test::IsNull(true))
    }

    fn quantified(&mut self, comprehension: &ComprehensionExpr, at: &IdedExpr) -> Result<Condition, Wrong> {
        let only = "over links to many and lists of objects, rules know `.exists(x, …)` and `.all(x, …)`";
        let range = self.term(&comprehension.iter_range)?;
        let target = match &range {
            Term::Rows { hop, .. } => self.model.types[hop.from].links[hop.link].target,
            Term::Items { items, .. } => *items,
            _ => return Err(self.wrong(&comprehension.iter_range, only)),
        };
        let (quantifier, body) = match (&comprehension.accu_init.expr, &comprehension.loop_step.expr) {
            (Expr::Literal(LiteralValue::Boolean(_)), Expr::Call(step)) if comprehension.iter_var2.is_none() => {
                match (step.func_name.as_str(), step.args.as_slice()) {
                    (operators::LOGICAL_OR, [_, body]) => (Quantifier::Exists, body),
                    (operators::LOGICAL_AND, [_, body]) => (Quantifier::All, body),
                    _ => return Err(self.wrong(at, only)),
                }
            }
            _ => return Err(self.wrong(at, only)),
        };
        let inner_scope = Scope { name: comprehension.iter_var.clone(), of: target };
        let outer = std::mem::replace(&mut self.scope, inner_scope);
        let inner = self.condition(body);
        self.scope = outer;
        let inner = Box::new(inner?);
        match range {
            Term::Rows { before, hop } => Ok(Condition::Quantified { before, hop, quantifier, inner }),
            Term::Items { path, .. } => Ok(Condition::OverItems { path, quantifier, inner }),
            _ => Err(self.wrong(at, only)),
        }
    }

    /// A stated value as a cell of a column's type.
    fn constant(&self, column: &Column, value: &Json, at: &IdedExpr) -> Result<Datum, Wrong> {
        let name = column.label();
        match column.kind {
            FieldType::Enum(id) | FieldType::List(Element::Enum(id)) => {
                let e = &self.model.enums[id];
                let text = value.as_str().unwrap_or_default();
                e.meant(text).map(|text| Datum::Text(text.to_owned())).ok_or_else(|| {
                    let hint = did_you_mean(text, e.values.iter().map(|(_, stored)| stored.as_str()));
                    let known: Vec<String> = e.values.iter().map(|(_, stored)| format!("'{stored}'")).collect();
                    self.wrong(at, format!("`{name}` is never {value}{hint}; it is one of {}", known.join(", ")))
                })
            }
            FieldType::Scalar(scalar) | FieldType::List(Element::Scalar(scalar)) => {
                datum_from_json(scalar, column.form, value).map_err(|unfit| {
                    self.wrong(at, format!("`{name}` expects {}, found {}", unfit.expected, unfit.found))
                })
            }
            FieldType::Object(_) | FieldType::Items(_) => {
                Err(self.wrong(at, format!("`{name}` cannot be compared with {value}; compare a member of it")))
            }
        }
    }

    /// The value of a linked row, as a column takes it.
    fn linked(&self, path: Path, owner: TypeId, column: &Column, at: &IdedExpr) -> Result<Path, Wrong> {
        let joined =
            path.hops.iter().map(|hop| &self.model.types[hop.from].links[hop.link]).find(|link| link.through.is_some());
        if let Some(link) = joined {
            let text = format!(
                "a fixed value is taken over links that start from a column, and `{}` goes over a join table",
                link.field
            );
            return Err(self.wrong(at, text));
        }
        let from = &self.model.types[owner].columns[path.column];
        if from.fits(column) {
            return Ok(path);
        }
        let [from_kind, kind] = [from.kind, column.kind].map(|kind| self.model.kind_name(kind));
        let text = format!(
            "`{}` is a `{from_kind}`, and `{}` a `{kind}` or stored in another form; a value is taken from a column that is stored \
             alike",
            from.label(),
            column.label()
        );
        Err(self.wrong(at, text))
    }

    fn time(&mut self, time: TimeTerm, column: &Column, at: &IdedExpr) -> Result<Operand, Wrong> {
        if is_time(column.kind) {
            return Ok(self.value(ClaimSource::Time(time), column, ClaimShape::One));
        }
        let name = column.label();
        let text = format!("a time meets dates and times, and `{name}` is a `{}`", self.model.kind_name(column.kind));
        Err(self.wrong(at, text))
    }

    /// A value taken from the claims, numbered among the role's.
    fn value(&mut self, from: ClaimSource, column: &Column, shape: ClaimShape) -> Operand {
        let value = ClaimValue { from, kind: column.kind, form: column.form, shape };
        Operand::Parameter(number_of(&mut self.registry.values, value))
    }

    fn claim_predicate(&mut self, claim_predicate: ClaimPredicate) -> Condition {
        Condition::ClaimPredicate(number_of(&mut self.registry.claim_predicates, claim_predicate))
    }
}

/// Is it a point in time?
fn is_time(kind: FieldType) -> bool {
    matches!(kind, FieldType::Scalar(Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime))
}

/// Is it a number?
fn is_number(kind: FieldType) -> bool {
    matches!(kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Decimal | Scalar::Float))
}

/// The parts of `condition ? one : other`.
fn conditional(expression: &IdedExpr) -> Option<(&IdedExpr, &IdedExpr, &IdedExpr)> {
    match &expression.expr {
        Expr::Call(call) if call.func_name == operators::CONDITIONAL => match call.args.as_slice() {
            [condition, one, other] => Some((condition, one, other)),
            _ => None,
        },
        _ => None,
    }
}

/// The number of an item in a list, to which it is added where it is new.
fn number_of<T: PartialEq>(list: &mut Vec<T>, item: T) -> usize {
    list.iter().position(|known| *known == item).unwrap_or_else(|| {
        list.push(item);
        list.len() - 1
    })
}

fn tested(path: Path, test: Test) -> Condition {
    Condition::Test { path, test }
}

fn negated(condition: Condition) -> Condition {
    Condition::Not(Box::new(condition))
}

fn equal(operand: Operand) -> Test {
    Test::Compare { comparison: Comparison::Eq, operand, by: TextComparison::Collation }
}

fn among(path: Path, operand: Operand, by: TextComparison) -> Condition {
    tested(path, Test::In { operand, by })
}

/// How a rule compares values of a column: texts by their bytes, so that it means the same on every engine.
fn exact(column: &Column) -> TextComparison {
    match column.kind {
        FieldType::Scalar(Scalar::String) => TextComparison::Exact,
        FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) | FieldType::Object(_) | FieldType::Items(_) => {
            TextComparison::Collation
        }
    }
}

fn claim_term(term: Term) -> ClaimTerm {
    match term {
        Term::Claim(path) => ClaimTerm::Claim(path),
        Term::Constant(value) => ClaimTerm::Constant(value),
        _ => ClaimTerm::Constant(Json::Null),
    }
}

fn comparison(operator: &str) -> Option<Comparison> {
    Some(match operator {
        operators::EQUALS => Comparison::Eq,
        operators::NOT_EQUALS => Comparison::Ne,
        operators::LESS => Comparison::Lt,
        operators::LESS_EQUALS => Comparison::Lte,
        operators::GREATER => Comparison::Gt,
        operators::GREATER_EQUALS => Comparison::Gte,
        _ => return None,
    })
}

fn text_test(function: &str) -> Option<TextTest> {
    Some(match function {
        "contains" => TextTest::Contains,
        "startsWith" => TextTest::StartsWith,
        "endsWith" => TextTest::EndsWith,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use rstest::rstest;

    use super::*;
    use crate::catalog::Catalog;
    use crate::project::{self, Place};

    fn model() -> &'static Model {
        static MODEL: LazyLock<Model> = LazyLock::new(huts);
        &MODEL
    }

    fn huts() -> Model {
        let catalog = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap();
        let project = project::read("[source.main]\nurl = \"sqlite:huts.db\"\n", &|_| None).unwrap();
        crate::model::build(&[&catalog], &project).unwrap()
    }

    fn compiled(rule: &str) -> Result<(Condition, ClaimRegistry), Mistake> {
        let model = model();
        let mut registry = ClaimRegistry::default();
        let text =
            RuleText { text: rule.to_owned(), place: Place { line: 7, column: 9, ..Place::default() }, verbatim: true };
        let of = model.type_named("Booking").unwrap();
        compile(model, of, &text, &mut registry).map(|condition| (condition, registry))
    }

    #[rstest]
    #[case("row.hutId == claims.sub")]
    #[case("claims.sub == row.hutId")]
    #[case("row.hut.name.startsWith(claims.prefix) && !(row.hut.name in claims.names)")]
    #[case("row.hut == null || row.hut.bookings.exists(b, b.hikerId == 7)")]
    #[case("row.hut.bookings.all(b, b.hiker.name != 'x' || has(b.hiker.name))")]
    #[case("size(row.hut.name) > 3 && claims.level >= 2 && 'admin' in claims.groups")]
    #[case("claims.org.id == 'x' && claims['https://huts.example/roles'] == 'y'")]
    #[case("-1 < row.hutId || row.hutId in [1, 2u, -3]")]
    #[case("row.hutId == row.hikerId || true")]
    #[case("row.startsOn > now + duration('24h') && now - duration('1h30m') < row.startsOn")]
    #[case("row.startsOn + duration('36h') > now && timestamp('2026-07-14T08:00:00Z') < now")]
    #[case(
        "timestamp(claims.until) > now && row.startsOn < timestamp(claims.until) - duration('24h') + duration('1h')"
    )]
    #[case("claims.level > 3 ? true : row.hutId == claims.hut")]
    #[case("row.hutId == (claims.night ? 1 : 2)")]
    #[case("row.hutId + 1 < row.hikerId * 2 && -row.hutId != claims.n - 1.5")]
    #[case("row.hutId / 2 == 3 && row.hutId % 2 == 1 && (row.hut.id * row.hutId) * row.hikerId + 1 > claims.n * 2")]
    #[case("row.hut.bookings.all(b, b.hutId - b.hikerId >= 0)")]
    #[case("row.startsOn <= row.startsOn + duration('336h') && now - row.startsOn > duration('-1h')")]
    #[case("row.startsOn + duration('1h') - row.startsOn < row.startsOn - timestamp(claims.until) + duration('24h')")]
    fn rules_that_fit_the_model_are_taken(#[case] rule: &str) {
        assert!(compiled(rule).is_ok(), "{:?}", compiled(rule).err());
    }

    #[rstest]
    #[case("row.hutt == 1", 4, "did you mean `hut`?")]
    #[case("row.hut.name == 7", 16, "expects a value of type `String`")]
    #[case("row.hutId", 4, "expected a condition")]
    #[case("row.hut == 7", 4, "cannot be compared")]
    #[case("1 == 1", 1, "cannot be compared")]
    #[case("row.hutId < null", 1, "null is neither larger nor smaller")]
    #[case("row.hut.bookings.hikerId == 7", 17, ".exists(x, x.hikerId")]
    #[case("row.hut.bookings.exists(b, row.hutId == 1)", 28, "`row` cannot be reached")]
    #[case("row.hut.bookings.exists_one(b, b.hutId == 1)", 28, "`.exists(x, …)`")]
    #[case("row.hut.bookings.map(b, b.hutId) == []", 21, "has no meaning in a rule")]
    #[case("rwo.hutId == 1", 1, "did you mean `row`?")]
    #[case("row.hutId + 'x' == 2", 11, "take two numbers, or a time and a duration")]
    #[case("row.hutId * 'x' == 2", 13, "rules calculate with numbers, found")]
    #[case("row.hutId / 1.5 == 2", 11, "say it with `*`")]
    #[case("row.hutId % claims.n == 2", 11, "takes columns of whole numbers")]
    #[case("row.hutId * row.hutId * row.hutId * row.hutId == 2", 33, "at most three values")]
    #[case("row.hutId * 2 in [2, 4]", 11, "not with `in`")]
    #[case("row.hutId * 2 == null", 11, "cannot be compared with null")]
    #[case("row.hutId + 1", 11, "expected a condition")]
    #[case("row.hutId + duration('1h') > now", 4, "a duration is added to a time")]
    #[case("row.startsOn > now + duration('1 day')", 30, "units are h, m, s")]
    #[case("row.startsOn > now + duration('')", 30, "units are h, m, s")]
    #[case("row.startsOn > timestamp('soon')", 26, "`timestamp` takes a claim")]
    #[case("row.startsOn - now > 7", 20, "the time between two others meets durations")]
    #[case("duration('1h') + (row.startsOn - now) > duration('1h')", 16, "a duration stands behind")]
    #[case("row.startsOn > now + now", 20, "or a time and a duration")]
    #[case("row.hutId > 1 ? row.hutId : true", 21, "expected a condition")]
    #[case("row.hut.name.matches('a')", 13, "has no meaning here")]
    #[case("row.hutId in 7", 14, "`in` takes a list")]
    #[case("row.hutId in [null]", 15, "other than null")]
    #[case("row.hutId == now", 14, "a time meets dates and times")]
    #[case("row.hutId ==", 13, "not a rule in CEL")]
    #[case("size(row.hut.bookings) > 1", 13, "of rows, ask `exists`")]
    fn what_does_not_fit_is_told_with_its_place(#[case] rule: &str, #[case] column: usize, #[case] expected: &str) {
        let mistake = compiled(rule).map(|(condition, _)| condition).unwrap_err();
        assert!(mistake.text.contains(expected), "{}", mistake.text);
        assert_eq!(mistake.place.line, 7);
        let near = mistake.place.column.abs_diff(column + 8) <= 12;
        assert!(near, "column {} of {rule}, {}", mistake.place.column - 8, mistake.text);
    }

    #[rstest]
    #[case("row.hut.id", Ok(()))]
    #[case("row.hut.name", Err("stored in another form"))]
    #[case("row.hutId", Err("the field of a row that is linked"))]
    #[case("row.hut", Err("the field of a row that is linked"))]
    #[case("row.hut.bookings", Err("the field of a row that is linked"))]
    #[case("row.hut.nmae", Err("did you mean `name`?"))]
    #[case("row.hut.id + 1", Err("the field of a row that is linked"))]
    fn a_fixed_value_is_taken_from_a_linked_row(#[case] text: &str, #[case] expected: Result<(), &str>) {
        let model = model();
        let of = model.type_named("Booking").unwrap();
        let column = model.types[of].column_called("hikerId").unwrap();
        let rule = RuleText { text: text.to_owned(), place: Place::default(), verbatim: true };
        match (compile_value(model, (of, column), &rule, &mut ClaimRegistry::default()), expected) {
            (Ok(Operand::Value(path)), Ok(())) => assert_eq!(path.hops.len(), 1),
            (Err(mistake), Err(said)) => assert!(mistake.text.contains(said), "{}", mistake.text),
            (found, _) => panic!("{found:?}"),
        }
    }

    #[rstest]
    #[case("row.hut.name", "row.hut.title")]
    #[case("row.hutId * 2 > row.hut.id - 1", "row.hutNumber * 2 > row.hut.id - 1")]
    #[case("row.startsOn - row.startsOn > duration('1h')", "row.beginsOn - row.beginsOn > duration('1h')")]
    fn what_is_calculated_or_fixed_follows_renames(#[case] rule: &str, #[case] expected: &str) {
        let renamed = |of: &str, before: &str, now: &str| (of.to_owned(), before.to_owned(), now.to_owned());
        let fields = vec![
            renamed("Hut", "name", "title"),
            renamed("Booking", "hutId", "hutNumber"),
            renamed("Booking", "startsOn", "beginsOn"),
        ];
        let renamed = Renamed { fields, ..Renamed::default() };
        let model = model();
        assert_eq!(with_names(model, model.type_named("Booking").unwrap(), rule, &renamed), expected);
    }

    #[test]
    fn the_same_claim_of_the_same_type_is_one_parameter() {
        let (_, registry) =
            compiled("row.hutId == claims.sub || row.hikerId == claims.sub || row.hut.name == claims.sub").unwrap();
        assert_eq!(registry.values.len(), 2, "once as a number, once as text");
    }

    #[test]
    fn whatever_is_written_is_a_rule_or_a_mistake() {
        const WORDS: &[&str] = &[
            "row",
            "claims",
            "now",
            "hut",
            "hutId",
            ".",
            "(",
            ")",
            "[",
            "]",
            "{",
            "}",
            ",",
            ":",
            "?",
            "==",
            "<",
            "in",
            "&&",
            "||",
            "!",
            "-",
            "+",
            "*",
            "/",
            "%",
            "1",
            "1.5",
            "'a'",
            "\"",
            "b'x'",
            "null",
            "true",
            "has",
            "size",
            "exists",
            "all",
            "map",
            "exists_one",
            "filter",
            "b",
            "\\",
            "\n",
            "é",
            "0x1F",
            "1u",
            "@",
            "#",
            "`",
            "//",
        ];
        let mut seed = 7_u64;
        let mut next = |below: usize| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            usize::try_from(seed >> 33).unwrap() % below
        };
        for _ in 0..3_000 {
            let words: Vec<&str> = (0..=next(12)).map(|_| WORDS[next(WORDS.len())]).collect();
            for rule in [words.concat(), words.join(" ")] {
                // Either is fine; that it ends is what counts.
                if let Err(mistake) = compiled(&rule) {
                    assert!(mistake.place.line >= 7 && !mistake.text.is_empty(), "{rule}");
                }
            }
        }
    }

    #[test]
    fn deep_nesting_is_a_mistake_and_not_a_crash() {
        let rule = format!("{}true{}", "(".repeat(5_000), ")".repeat(5_000));
        assert!(compiled(&rule).is_err());
    }

    #[test]
    fn divisions_do_not_double_without_end() {
        let divided = |times: usize| format!("{}row.hutId{} > 1", "(".repeat(times), " / 2)".repeat(times));
        assert!(compiled(&divided(3)).is_ok());
        assert!(compiled(&divided(4)).unwrap_err().text.contains("divisions inside each other"));
        let sum = |terms: usize| format!("row.hutId{} > 1", " + row.hutId".repeat(terms));
        assert!(compiled(&sum(31)).is_ok());
        assert!(compiled(&sum(32)).unwrap_err().text.contains("values in all"));
    }

    #[test]
    fn choices_do_not_double_without_end() {
        // Each would be asked twice as often as the one around it.
        let within = |levels: usize| format!("{}true{}", "(".repeat(levels), " ? true : false)".repeat(levels));
        assert!(compiled(&within(4)).is_ok());
        assert!(compiled(&within(40)).unwrap_err().text.contains("inside the conditions of others"));
        let side = |count: usize| format!("({}2)", "claims.a ? 1 : ".repeat(count));
        assert!(compiled(&format!("row.hutId == {}", side(20))).is_ok());
        let wrong = compiled(&format!("{} == {}", side(20).replace(['1', '2'], "row.hutId"), side(20))).unwrap_err();
        assert!(wrong.text.contains("at most 256 choices"), "{}", wrong.text);
    }
}
