//! A role's view of the model. What is not in it cannot be named, filtered, ordered by, counted or guessed.

use crate::project::OWNER;
use std::sync::Arc;

use super::claims::{ClaimPredicate, ClaimValue, Claims};
use super::rule::{self, ClaimRegistry};
use super::{Action, Condition, Masks, Operand};
use crate::model::{Cardinality, ColumnId, FieldType, ITEM_COLUMN, Link, LinkId, Model, TypeId, VersionStep};
use crate::value::Datum;

/// A model as one role sees it.
#[derive(Debug, Clone)]
pub struct View {
    role: String,
    model: Arc<Model>,
    types: Vec<Option<TypeView>>,
    /// Per type, the links at whose end there is always a row that the role sees, whatever the claims.
    present: Arc<[Vec<bool>]>,
    claims: Arc<[ClaimValue]>,
    claim_predicates: Arc<[ClaimPredicate]>,
}

/// What has fields: a row, or an object inside its JSON.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Within {
    /// The row's type.
    pub of: TypeId,
    /// The column that is the object.
    pub object: Option<ColumnId>,
}

impl Within {
    /// A row itself.
    pub fn row(of: TypeId) -> Self {
        Within { of, object: None }
    }

    /// An object inside a row's JSON.
    pub fn object(of: TypeId, column: ColumnId) -> Self {
        Within { of, object: Some(column) }
    }
}

/// What the claims of one request come to for a view.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ResolvedClaims {
    /// The values of the view's claims: the first parameters of its plans. Null is unknown.
    pub cells: Vec<Datum>,
    /// Which of them are known, and what the facts decide: all that a plan depends on.
    pub pattern: Vec<u8>,
}

/// One type as one role sees it.
#[derive(Debug, Clone)]
pub struct TypeView {
    /// Which columns can be read; a hidden column never can.
    pub columns: Vec<bool>,
    /// Which links can be followed; a link to a type outside the view never can.
    pub links: Vec<bool>,
    /// Which rows can be seen; absent, all.
    pub rows: Option<Arc<Condition>>,
    /// Columns that show a value only where a condition is true; neither those of a key nor those that a link follows.
    pub masks: Masks,
    /// The most rows of one page, where lower than the project's limit.
    pub max_page: Option<u32>,
    /// May rows be counted?
    pub count: bool,
    /// How rows may be created; absent, not at all.
    pub create: Option<WriteGrant>,
    /// How rows may be updated; absent, not at all.
    pub update: Option<WriteGrant>,
    /// How rows may be deleted; absent, not at all.
    pub delete: Option<WriteGrant>,
}

/// How a role may write to a type.
#[derive(Debug, Clone, Default)]
pub struct WriteGrant {
    /// Which columns it may set.
    pub columns: Vec<bool>,
    /// Which of the rows that it can see; absent, all of them.
    pub rows: Option<Arc<Condition>>,
    /// What must be true of each row as it is after the change; absent, `rows`, and of a created one what makes rows
    /// visible.
    pub check: Option<Arc<Condition>>,
    /// Values that are set whatever the caller says: stated, taken from the claims, or from rows that are linked.
    pub fixed: Vec<(ColumnId, Operand)>,
}

impl TypeView {
    /// How rows may be written by an action; absent, not at all, and for reading.
    pub fn write(&self, action: Action) -> Option<&WriteGrant> {
        match action {
            Action::Read => None,
            Action::Create => self.create.as_ref(),
            Action::Update => self.update.as_ref(),
            Action::Delete => self.delete.as_ref(),
        }
    }

    /// Nothing of a type.
    pub fn nothing(model: &Model, id: TypeId) -> Self {
        let t = &model.types[id];
        TypeView {
            create: None,
            update: None,
            delete: None,
            columns: vec![false; t.columns.len()],
            links: vec![false; t.links.len()],
            rows: None,
            masks: Masks::default(),
            max_page: None,
            count: false,
        }
    }

    /// Everything of a type.
    pub fn whole(model: &Model, id: TypeId) -> Self {
        let t = &model.types[id];
        let all = || t.writable.then(|| WriteGrant { columns: vec![true; t.columns.len()], ..WriteGrant::default() });
        let changeable = t.columns.iter().map(|column| !column.input.immutable).collect();
        TypeView {
            create: all(),
            update: all().map(|grant| WriteGrant { columns: changeable, ..grant }),
            delete: all(),
            columns: vec![true; t.columns.len()],
            links: vec![true; t.links.len()],
            count: true,
            ..TypeView::nothing(model, id)
        }
    }
}

/// Per type, the links at whose end there is always a row that the role sees.
fn present(model: &Model, types: &[Option<TypeView>]) -> Arc<[Vec<bool>]> {
    let is_whole = |target: TypeId| types[target].as_ref().is_some_and(|view| view.rows.is_none());
    model.types.iter().map(|t| t.links.iter().map(|link| link.enforced && is_whole(link.target)).collect()).collect()
}

impl View {
    /// The owner's view: everything that the model exposes.
    pub fn owner(model: Arc<Model>) -> Self {
        let mut registry = ClaimRegistry::default();
        let mut types: Vec<Option<TypeView>> =
            (0..model.types.len()).map(|id| Some(TypeView::whole(&model, id))).collect();
        for (t, view) in model.types.iter().zip(types.iter_mut().flatten()) {
            if let (Some((column, VersionStep::Now)), Some(update)) = (t.version_step(), &mut view.update) {
                update.fixed.push((column, rule::time_of_request(&t.columns[column], &mut registry)));
            }
        }
        View::new(OWNER, model, types).with_claims(registry.values, registry.claim_predicates)
    }

    /// A role's view, one entry per type of the model; `None` hides the type.
    pub fn new(role: impl Into<String>, model: Arc<Model>, types: Vec<Option<TypeView>>) -> Self {
        assert_eq!(types.len(), model.types.len(), "a view has one entry per type of its model");
        let present = present(&model, &types);
        View { role: role.into(), model, types, present, claims: Arc::default(), claim_predicates: Arc::default() }
    }

    /// The same with the values and facts that its rules take from the claims.
    #[must_use]
    pub fn with_claims(self, claims: Vec<ClaimValue>, claim_predicates: Vec<ClaimPredicate>) -> Self {
        View { claims: claims.into(), claim_predicates: claim_predicates.into(), ..self }
    }

    /// The same where rows may be counted, whatever the role was granted: for whoever answers for the grants.
    #[must_use]
    pub fn counting(mut self) -> Self {
        for t in self.types.iter_mut().flatten() {
            t.count = true;
        }
        self
    }

    /// The same with all fields of one type, whatever the role was granted of it; which rows it sees, and where values are masked,
    /// stays. For whoever answers for the grants and looks at what they withhold.
    #[must_use]
    pub fn seeing_through(mut self, of: TypeId) -> Self {
        let whole = TypeView::whole(&self.model, of);
        if let Some(t) = &mut self.types[of] {
            *t = TypeView { rows: t.rows.clone(), masks: Arc::clone(&t.masks), ..whole };
        }
        self
    }

    /// The same with those rows of one type alone that an action reaches: those that can be seen and that its own rule allows.
    #[must_use]
    pub fn reaching(mut self, of: TypeId, action: Action) -> Self {
        if let Some(t) = &mut self.types[of]
            && let Some(rows) = t.write(action).and_then(|grant| grant.rows.clone())
        {
            let seen = t.rows.take().map(|seen| (*seen).clone());
            let both = seen.into_iter().chain([(*rows).clone()]).collect();
            t.rows = Some(Arc::new(Condition::And(both)));
        }
        self.present = present(&self.model, &self.types);
        self
    }

    /// How many values its rules take from the claims.
    pub fn claims(&self) -> usize {
        self.claims.len()
    }

    /// What the claims of a request come to.
    pub fn resolve(&self, claims: &Claims<'_>) -> ResolvedClaims {
        let cells: Vec<Datum> = self.claims.iter().map(|value| value.cell(&self.model, claims)).collect();
        let known = cells.iter().map(|cell| if *cell == Datum::Null { b'?' } else { b'+' });
        let decided = self.claim_predicates.iter().map(|claim_predicate| match claim_predicate.decide(claims) {
            Some(true) => b't',
            Some(false) => b'f',
            None => b'u',
        });
        let pattern = known.chain(decided).collect();
        ResolvedClaims { cells, pattern }
    }

    /// The view under a [pattern](ResolvedClaims::pattern) of the claims: nothing in it depends on what is unknown.
    #[must_use]
    pub fn specialise(&self, pattern: &[u8]) -> View {
        let (known, decided) = pattern.split_at(self.claims.len().min(pattern.len()));
        let claim_predicates = |claim_predicate: usize| match decided.get(claim_predicate) {
            Some(b't') => Some(true),
            Some(b'f') => Some(false),
            _ => None,
        };
        let known = |parameter: usize| known.get(parameter) == Some(&b'+');
        let specialise = |condition: &Arc<Condition>| Arc::new(condition.specialise(&claim_predicates, &known, false));
        // Where everything is allowed, nothing needs to be asked.
        let rows = |rows: &Option<Arc<Condition>>| {
            rows.as_ref().map(specialise).filter(|rows| **rows != Condition::Constant(true))
        };
        let write = |grant: &WriteGrant| WriteGrant {
            rows: rows(&grant.rows),
            check: grant.check.as_ref().map(specialise),
            ..grant.clone()
        };
        let types = self.types.iter().map(|t| {
            t.as_ref().map(|t| TypeView {
                rows: rows(&t.rows),
                masks: t.masks.iter().map(|(column, mask)| (*column, specialise(mask))).collect(),
                create: t.create.as_ref().map(write),
                update: t.update.as_ref().map(write),
                delete: t.delete.as_ref().map(write),
                ..t.clone()
            })
        });
        View { types: types.collect(), ..self.clone() }
    }

    /// The role's name.
    pub fn role(&self) -> &str {
        &self.role
    }

    /// The model that it is a view of.
    pub fn model(&self) -> &Arc<Model> {
        &self.model
    }

    /// The types of tables in the view.
    pub fn types(&self) -> impl Iterator<Item = (TypeId, &TypeView)> {
        self.every_type().filter(|(id, _)| self.model.types[*id].items_of.is_none())
    }

    /// The types in the view, those of items of lists too.
    pub fn every_type(&self) -> impl Iterator<Item = (TypeId, &TypeView)> {
        self.types.iter().enumerate().filter_map(|(id, t)| t.as_ref().map(|t| (id, t)))
    }

    /// One type, if it is in the view.
    pub fn type_view(&self, id: TypeId) -> Option<&TypeView> {
        self.types[id].as_ref()
    }

    /// Which rows of a type can be seen; absent, all.
    pub fn rows(&self, id: TypeId) -> Option<&Arc<Condition>> {
        self.types[id].as_ref().and_then(|t| t.rows.as_ref())
    }

    /// The columns of a type that show a value only where a condition is true.
    pub fn masks(&self, id: TypeId) -> Masks {
        self.types[id].as_ref().map(|t| Arc::clone(&t.masks)).unwrap_or_default()
    }

    /// Is a column's field non-null in the schema? Not where it may be masked.
    pub fn is_non_null(&self, id: TypeId, column: ColumnId) -> bool {
        self.model.types[id].columns[column].non_null && !self.is_masked(id, column)
    }

    /// Is there always a row at the end of a link? Not where a rule may hide it, whoever asks.
    pub fn is_present(&self, id: TypeId, link: LinkId) -> bool {
        self.present[id][link]
    }

    /// May a column show null where it has a value?
    pub fn is_masked(&self, id: TypeId, column: ColumnId) -> bool {
        self.types[id].as_ref().is_some_and(|t| t.masks.iter().any(|(masked, _)| *masked == column))
    }

    /// The columns of a type that have a field of its own in this view. Of items of a list, those are the members.
    pub fn columns(&self, id: TypeId) -> impl Iterator<Item = (ColumnId, &str)> {
        self.fields(Within::row(id))
    }

    /// The columns that have a field in a row, or in an object inside its JSON.
    pub fn fields(&self, within: Within) -> impl Iterator<Item = (ColumnId, &str)> {
        let item = self.model.types[within.of].items_of.map(|_| ITEM_COLUMN);
        self.fields_within(within.of, within.object.or(item))
    }

    /// The columns of all values that can be read there: of an object inside JSON, its members' instead of its own. A list of
    /// objects of which a part is hidden is not among them.
    pub fn leaves(&self, within: Within) -> Vec<ColumnId> {
        let columns = &self.model.types[within.of].columns;
        let each = self.fields(within).flat_map(|(column, _)| match columns[column].kind {
            FieldType::Object(_) => self.leaves(Within::object(within.of, column)),
            FieldType::Items(_) if !self.sees_all((within.of, column)) => Vec::new(),
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) | FieldType::Items(_) => vec![column],
        });
        each.collect()
    }

    /// Can a column be read with all that is inside its JSON?
    fn sees_all(&self, column: (TypeId, ColumnId)) -> bool {
        let is_seen = |(of, column): (TypeId, ColumnId)| {
            self.types[of].as_ref().is_some_and(|view| view.columns.get(column).copied().unwrap_or(false))
        };
        self.model.within(column).into_iter().all(is_seen)
    }

    /// Can a column be read as it is, with all that is inside its JSON: never masked?
    pub fn reads_as_is(&self, column: (TypeId, ColumnId)) -> bool {
        let is_masked = |(of, column): (TypeId, ColumnId)| self.is_masked(of, column);
        self.sees_all(column) && !self.model.within(column).into_iter().any(is_masked)
    }

    fn fields_within(&self, id: TypeId, within: Option<ColumnId>) -> impl Iterator<Item = (ColumnId, &str)> {
        let t = &self.model.types[id];
        let granted = self.types[id].as_ref().map_or(&[][..], |view| &view.columns);
        t.columns.iter().enumerate().filter_map(move |(column, c)| {
            let visible = granted.get(column).copied().unwrap_or(false);
            let is_there = c.member.as_ref().map(|member| member.within) == within;
            c.field.as_deref().filter(|_| visible && is_there).map(|field| (column, field))
        })
    }

    /// The links of a type that can be followed in this view.
    pub fn links(&self, id: TypeId) -> impl Iterator<Item = (LinkId, &Link)> {
        let t = &self.model.types[id];
        let granted = self.types[id].as_ref().map_or(&[][..], |view| &view.links);
        t.links.iter().enumerate().filter(move |(link, l)| {
            granted.get(*link).copied().unwrap_or(false)
                && self.types[l.target].is_some()
                && l.through.as_ref().is_none_or(|through| self.types[through.join].is_some())
        })
    }

    /// The columns of a type that a grant lets the caller set, or set parts of.
    pub fn settable<'a>(&'a self, id: TypeId, grant: &'a WriteGrant) -> impl Iterator<Item = (ColumnId, &'a str)> {
        self.settable_within(Within::row(id), grant)
    }

    /// The same of a row, or of an object inside its JSON. Items of lists are written with all that is in them.
    pub fn settable_within<'a>(
        &'a self,
        within: Within,
        grant: &'a WriteGrant,
    ) -> impl Iterator<Item = (ColumnId, &'a str)> {
        let t = &self.model.types[within.of];
        let is_item = t.items_of.is_some();
        let outer = within.object.or(is_item.then_some(ITEM_COLUMN));
        t.columns.iter().enumerate().filter_map(move |(column, c)| {
            let granted = is_item || grant.columns.get(column).copied().unwrap_or(false);
            let fixed = !is_item && grant.fixed.iter().any(|(fixed, _)| *fixed == column);
            let is_there = c.member.as_ref().map(|member| member.within) == outer;
            let is_settable = is_there && granted && !fixed && !c.input.computed;
            c.field.as_deref().filter(|_| is_settable).map(|field| (column, field))
        })
    }

    /// May a caller set a column with all that is inside its JSON?
    pub fn sets_all(&self, (id, column): (TypeId, ColumnId), grant: &WriteGrant) -> bool {
        let granted = |column: ColumnId| grant.columns.get(column).copied().unwrap_or(false);
        self.model.within((id, column)).into_iter().all(|(of, column)| of != id || granted(column))
    }

    /// The to-one links of a type whose own columns a grant lets the caller set.
    pub fn settable_links<'a>(&'a self, id: TypeId, grant: &'a WriteGrant) -> impl Iterator<Item = (LinkId, &'a Link)> {
        let settable: Vec<ColumnId> = self.settable(id, grant).map(|(column, _)| column).collect();
        self.links(id).filter(move |(_, link)| {
            link.cardinality == Cardinality::One
                && link.through.is_none()
                && !link.crosses
                && link.pairs.iter().all(|(own, _)| settable.contains(own))
                && self.keys(link.target).next().is_some()
        })
    }

    /// The keys of a type that are made of visible columns only.
    pub fn keys(&self, id: TypeId) -> impl Iterator<Item = &crate::model::Key> {
        let visible: Vec<ColumnId> = self.columns(id).map(|(column, _)| column).collect();
        let t = &self.model.types[id];
        t.keys.iter().filter(move |key| {
            key.columns.iter().all(|column| visible.contains(column) && t.columns[*column].is_comparable())
        })
    }
}
