//! From a caller's filter to a [`Condition`]. Names resolve against the role's view; every hop ranges over the rows
//! that the role may see.

use super::build::Planner;
use super::filter_words::{FilterWord, LINK_FILTER_WORDS};
use super::input::{Input, Leaf, Listed, Members};
use super::{LeafType, ListSource, Parameter};
use crate::access::Within;
use crate::access::{Comparison, Condition, Hop, Operand, Path, Test, TextComparison, TextTest};
use crate::error::{Code, Problem};
use crate::model::{Cardinality, ColumnId, FieldType, LinkId, TypeId};

/// A filter on what is at the end of a link.
#[derive(Clone, Copy)]
pub(super) struct LinkFilter<'h> {
    /// The type that the link leaves.
    pub(super) from: TypeId,
    /// Which of its links.
    pub(super) link: LinkId,
    /// The to-one hops that led there.
    pub(super) before: &'h [Hop],
    /// Is it the filter's falsity that decides?
    pub(super) negated: bool,
    /// How deep the filter is.
    pub(super) depth: usize,
}

impl<'a> Planner<'a> {
    /// The condition that a filter on rows of `of` states. `before` are the to-one hops that led there; `negated`: is it the
    /// filter's falsity that decides?
    ///
    /// # Errors
    /// `INVALID_ARGUMENT` for what has no meaning (`eq: null`), `TOO_COSTLY` for a filter nested too deeply.
    pub(super) fn filter(
        &mut self,
        of: TypeId,
        filter: Input<'a>,
        before: &[Hop],
        negated: bool,
        depth: usize,
    ) -> Result<Condition, Problem> {
        self.filter_fields(Within::row(of), filter, before, negated, depth)
    }

    /// The same of the fields of a row, or of the members of an object inside its JSON.
    fn filter_fields(
        &mut self,
        within: Within,
        filter: Input<'a>,
        before: &[Hop],
        negated: bool,
        depth: usize,
    ) -> Result<Condition, Problem> {
        if depth > self.limits.filter_depth {
            let text =
                format!("the filter is nested deeper than {} levels; ask for less at once", self.limits.filter_depth);
            return Err(Problem::new(Code::TooCostly, text));
        }
        let Input::Object(members) = filter else { return Ok(Condition::Constant(true)) };
        let mut all = Vec::new();
        for (name, value) in members {
            let value = self.reads.open(value)?;
            if matches!(value, Input::Absent) {
                continue;
            }
            let column = self.view.fields(within).find(|(_, field)| *field == &*name).map(|(column, _)| column);
            // What items of lists are linked with is read, and not asked about.
            let is_row = within.object.is_none() && self.view.model().types[within.of].items_of.is_none();
            let mut links = self.view.links(within.of).filter(|_| is_row);
            let link = links.find(|(_, link)| *link.field == *name).map(|(link, _)| link);
            if let Some(column) = column {
                self.filter_column(within.of, column, value, (before, negated), depth, &mut all)?;
            } else if let Some(link) = link {
                all.push(self.filter_link(LinkFilter { from: within.of, link, before, negated, depth }, value)?);
            } else if matches!(value, Input::Null) {
                return Err(null_member(&name));
            } else if let Some(object) = within.object.filter(|_| *name == *FilterWord::IsNull.name()) {
                let test = Test::IsNull(self.is_true(&value));
                all.push(Condition::Test { path: self.path(within.of, before.to_vec(), object), test });
            } else {
                all.push(self.combine(within, &name, value, (before, negated), depth)?);
            }
        }
        Ok(Condition::And(all))
    }

    fn combine(
        &mut self,
        within: Within,
        word: &str,
        value: Input<'a>,
        (before, negated): (&[Hop], bool),
        depth: usize,
    ) -> Result<Condition, Problem> {
        if word == "not" {
            return Ok(Condition::Not(Box::new(self.filter_fields(within, value, before, !negated, depth + 1)?)));
        }
        let mut parts = Vec::new();
        for item in self.reads.opened_items(value)? {
            // What is not set is not there; in an `or` it must not count as true.
            if !matches!(item, Input::Absent) {
                parts.push(self.filter_fields(within, item, before, negated, depth + 1)?);
            }
        }
        Ok(if word == "or" { Condition::Or(parts) } else { Condition::And(parts) })
    }

    /// A value as the role sees it.
    pub(super) fn path(&self, of: TypeId, hops: Vec<Hop>, column: ColumnId) -> Path {
        Path { hops, column, masked: self.view.is_masked(of, column) }
    }

    /// A hop of the caller's: over visible rows only.
    pub(super) fn hop(&self, from: TypeId, link: LinkId) -> Hop {
        let l = &self.view.model().types[from].links[link];
        let join = l.through.as_ref().map(|through| through.join);
        Hop {
            from,
            link,
            visible: self.view.rows(l.target).cloned(),
            join_visible: join.and_then(|join| self.view.rows(join).cloned()),
            masks: self.view.masks(l.target),
        }
    }

    fn filter_link(&mut self, at: LinkFilter<'_>, value: Input<'a>) -> Result<Condition, Problem> {
        let LinkFilter { from, link, before, negated, depth } = at;
        let l = &self.view.model().types[from].links[link];
        let (target, cardinality, crosses) = (l.target, l.cardinality, l.crosses);
        if matches!(value, Input::Null) {
            return Err(null_member(&l.field));
        }
        if cardinality == Cardinality::One {
            if crosses {
                return self.filter_other_row(at, value);
            }
            let mut hops = before.to_vec();
            hops.push(self.hop(from, link));
            return self.filter(target, value, &hops, negated, depth + 1);
        }
        let Input::Object(members) = value else { return Ok(Condition::Constant(true)) };
        let mut all = Vec::new();
        for (word, inner) in members {
            let inner = self.reads.open(inner)?;
            if matches!(inner, Input::Absent) {
                continue;
            }
            if matches!(inner, Input::Null) {
                return Err(null_member(&word));
            }
            let known = LINK_FILTER_WORDS.iter().find(|(known, ..)| *known == &*word);
            let quantifier = known.map(|(_, quantifier, _)| *quantifier).ok_or_else(|| unknown_word(&word))?;
            if crosses {
                all.push(self.filter_other_rows(at, quantifier, inner)?);
                continue;
            }
            let said = if negated { quantifier.negated() } else { quantifier };
            let inner = self.filter(target, inner, &[], said.asks_falsity(), depth + 1)?;
            all.push(Condition::Quantified {
                before: before.to_vec(),
                hop: self.hop(from, link),
                quantifier,
                inner: Box::new(inner),
            });
        }
        Ok(Condition::And(all))
    }

    fn filter_column(
        &mut self,
        of: TypeId,
        column: ColumnId,
        value: Input<'a>,
        (before, negated): (&[Hop], bool),
        depth: usize,
        all: &mut Vec<Condition>,
    ) -> Result<(), Problem> {
        let model = self.view.model();
        let c = &model.types[of].columns[column];
        match c.kind {
            FieldType::Object(_) if matches!(value, Input::Null) => return Err(null_member(c.label())),
            FieldType::Object(_) => {
                all.push(self.filter_fields(Within::object(of, column), value, before, negated, depth + 1)?);
                return Ok(());
            }
            FieldType::Items(items) => {
                let path = self.path(of, before.to_vec(), column);
                return self.filter_items(items, &path, value, negated, depth, all);
            }
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => {}
        }
        let leaf = LeafType { kind: c.kind, form: c.form };
        let field = c.field.clone().unwrap_or_default();
        let Input::Object(members) = value else { return Err(null_member(&field)) };
        let ignore_case = self.ignores_case(&members)?;
        for (word, value) in members {
            let known = FilterWord::named(&word).ok_or_else(|| unknown_word(&word))?;
            if known == FilterWord::IgnoreCase {
                continue;
            }
            let value = self.reads.open(value)?;
            if matches!(value, Input::Absent) {
                continue;
            }
            if matches!(value, Input::Null) {
                return Err(null_member(&word));
            }
            self.planned.filter_leaves += 1;
            let (negated, test) = self.test(known, value, leaf, ignore_case)?;
            let test = Condition::Test { path: self.path(of, before.to_vec(), column), test };
            all.push(if negated { Condition::Not(Box::new(test)) } else { test });
        }
        Ok(())
    }

    /// What is asked of the items of a list inside JSON.
    fn filter_items(
        &mut self,
        items: TypeId,
        path: &Path,
        value: Input<'a>,
        negated: bool,
        depth: usize,
        all: &mut Vec<Condition>,
    ) -> Result<(), Problem> {
        let Input::Object(members) = value else { return Err(null_member("a list")) };
        for (word, value) in members {
            let value = self.reads.open(value)?;
            if matches!(value, Input::Absent) {
                continue;
            }
            if matches!(value, Input::Null) {
                return Err(null_member(&word));
            }
            let of_value = |test| Condition::Test { path: path.clone(), test };
            let known = LINK_FILTER_WORDS.iter().find(|(known, ..)| *known == &*word);
            all.push(match (known, FilterWord::named(&word)) {
                (Some((_, quantifier, _)), _) => {
                    let said = if negated { quantifier.negated() } else { *quantifier };
                    let inner = self.filter(items, value, &[], said.asks_falsity(), depth + 1)?;
                    Condition::OverItems { path: path.clone(), quantifier: *quantifier, inner: Box::new(inner) }
                }
                (None, Some(FilterWord::IsEmpty)) => of_value(Test::IsEmpty(self.is_true(&value))),
                (None, Some(FilterWord::IsNull)) => of_value(Test::IsNull(self.is_true(&value))),
                _ => return Err(unknown_word(&word)),
            });
        }
        Ok(())
    }

    fn ignores_case(&self, members: &Members<'a>) -> Result<bool, Problem> {
        let Some((_, value)) = members.iter().find(|(word, _)| &**word == FilterWord::IgnoreCase.name()) else {
            return Ok(false);
        };
        Ok(matches!(self.reads.open(value.clone())?, Input::Leaf(leaf) if self.reads.is_true(&leaf)))
    }

    /// The test that a filter word states, and whether it is negated.
    fn test(
        &mut self,
        word: FilterWord,
        value: Input<'a>,
        leaf: LeafType,
        ignore_case: bool,
    ) -> Result<(bool, Test), Problem> {
        let by = if ignore_case { TextComparison::IgnoreCase } else { TextComparison::Collation };
        let compare = |comparison| move |operand| (false, Test::Compare { comparison, operand, by });
        let text = |test| move |operand| (false, Test::Text { test, operand, ignore_case });
        match word {
            FilterWord::Eq => self.operand(value, leaf).map(compare(Comparison::Eq)),
            FilterWord::Ne => self.operand(value, leaf).map(compare(Comparison::Ne)),
            FilterWord::Lt => self.operand(value, leaf).map(compare(Comparison::Lt)),
            FilterWord::Lte => self.operand(value, leaf).map(compare(Comparison::Lte)),
            FilterWord::Gt => self.operand(value, leaf).map(compare(Comparison::Gt)),
            FilterWord::Gte => self.operand(value, leaf).map(compare(Comparison::Gte)),
            FilterWord::In | FilterWord::NotIn => {
                let operand = self.list_operand(value, leaf)?;
                Ok((word == FilterWord::NotIn, Test::In { operand, by }))
            }
            // One value is a list of one.
            FilterWord::Includes | FilterWord::IncludesAll => {
                Ok((false, Test::Includes { operand: self.list_operand(value, leaf)?, all: true }))
            }
            FilterWord::IncludesAny => {
                Ok((false, Test::Includes { operand: self.list_operand(value, leaf)?, all: false }))
            }
            FilterWord::IsEmpty => Ok((false, Test::IsEmpty(self.is_true(&value)))),
            FilterWord::IsNull => Ok((false, Test::IsNull(self.is_true(&value)))),
            FilterWord::Contains => self.operand(value, leaf).map(text(TextTest::Contains)),
            FilterWord::StartsWith => self.operand(value, leaf).map(text(TextTest::StartsWith)),
            FilterWord::EndsWith => self.operand(value, leaf).map(text(TextTest::EndsWith)),
            FilterWord::IgnoreCase => Err(unknown_word(word.name())),
        }
    }

    fn is_true(&self, value: &Input<'a>) -> bool {
        matches!(value, Input::Leaf(leaf) if self.reads.is_true(leaf))
    }

    pub(super) fn operand(&mut self, value: Input<'a>, leaf: LeafType) -> Result<Operand, Problem> {
        match value {
            Input::Leaf(found) => self.leaf_parameter(found, leaf).map(Operand::Parameter),
            _ => Err(Problem::new(Code::InvalidArgument, "expected a single value")),
        }
    }

    fn leaf_parameter(&mut self, found: Leaf, leaf: LeafType) -> Result<usize, Problem> {
        let parameter = match found {
            Leaf::Variable { path, .. } => Parameter::Leaf { source: path, leaf },
            Leaf::Literal { value, location } => {
                let cell = leaf.cell(self.view.model(), &value).map_err(|unfit| {
                    let text = format!("expected {}, found {}", unfit.expected, unfit.found);
                    Problem::new(Code::InvalidArgument, text).at(location)
                })?;
                Parameter::Constant(cell)
            }
        };
        Ok(self.parameter(parameter))
    }

    fn list_operand(&mut self, value: Input<'a>, leaf: LeafType) -> Result<Operand, Problem> {
        let items = match value {
            Input::List(Listed::Variable(path, _)) if self.opens_lists == 0 => ListSource::Variable(path),
            other => {
                let items = self.reads.opened_items(other)?;
                if items.len() > self.limits.list {
                    return Err(super::bind::list_too_long(items.len(), self.limits.list));
                }
                let parameters = items.into_iter().map(|item| match item {
                    Input::Leaf(found) => self.leaf_parameter(found, leaf),
                    _ => Err(Problem::new(Code::InvalidArgument, "a list for `in` takes no null; use `isNull`")),
                });
                ListSource::Items(parameters.collect::<Result<_, _>>()?)
            }
        };
        Ok(Operand::Parameter(self.parameter(Parameter::List { items, leaf })))
    }

    /// Is a parameter a list that has no items, whatever the request?
    pub(super) fn is_empty_list(&self, parameter: usize) -> bool {
        let list = self.planned.parameters.get(parameter);
        matches!(list, Some(Parameter::List { items: ListSource::Items(items), .. }) if items.is_empty())
    }
}

/// The schema and this table are one: a validated document has no other word.
fn unknown_word(word: &str) -> Problem {
    Problem::new(Code::Internal, format!("`{word}` is not a word of filters"))
}

fn null_member(word: &str) -> Problem {
    let text = format!("`{word}: null` has no meaning in a filter; leave it out, or ask `isNull: true` of a field");
    Problem::new(Code::InvalidArgument, text)
}
