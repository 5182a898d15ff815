//! A role's view of the model. What is not in it cannot be named, filtered, ordered by, counted or guessed.

use std::sync::Arc;

use super::Condition;
use crate::model::{Cardinality, ColumnId, Link, LinkId, Model, TypeId};
use crate::value::Cell;

/// The role that sees everything.
pub const OWNER: &str = "owner";

/// A model as one role sees it.
#[derive(Debug, Clone)]
pub struct View {
    role: String,
    model: Arc<Model>,
    types: Vec<Option<TypeView>>,
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
    /// Values that are set whatever the caller says.
    pub fixed: Vec<(ColumnId, Cell)>,
}

impl TypeView {
    /// Everything of a type.
    pub fn whole(model: &Model, id: TypeId) -> Self {
        let t = &model.types[id];
        let all = || t.writable.then(|| WriteGrant { columns: vec![true; t.columns.len()], ..WriteGrant::default() });
        TypeView {
            create: all(),
            update: all(),
            delete: all(),
            columns: vec![true; t.columns.len()],
            links: vec![true; t.links.len()],
            rows: None,
            max_page: None,
            count: true,
        }
    }
}

impl View {
    /// The owner's view: everything that the model exposes.
    pub fn owner(model: Arc<Model>) -> Self {
        let types = (0..model.types.len()).map(|id| Some(TypeView::whole(&model, id))).collect();
        View::new(OWNER, model, types)
    }

    /// A role's view, one entry per type of the model; `None` hides the type.
    pub fn new(role: impl Into<String>, model: Arc<Model>, types: Vec<Option<TypeView>>) -> Self {
        assert_eq!(types.len(), model.types.len(), "a view has one entry per type of its model");
        View { role: role.into(), model, types }
    }

    /// The role's name.
    pub fn role(&self) -> &str {
        &self.role
    }

    /// The model that it is a view of.
    pub fn model(&self) -> &Arc<Model> {
        &self.model
    }

    /// The types in the view.
    pub fn types(&self) -> impl Iterator<Item = (TypeId, &TypeView)> {
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

    /// The columns of a type that have a field in this view.
    pub fn columns(&self, id: TypeId) -> impl Iterator<Item = (ColumnId, &str)> {
        let t = &self.model.types[id];
        let granted = self.types[id].as_ref().map_or(&[][..], |view| &view.columns);
        t.columns.iter().enumerate().filter_map(|(column, c)| {
            let visible = granted.get(column).copied().unwrap_or(false);
            c.field.as_deref().filter(|_| visible).map(|field| (column, field))
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

    /// The columns of a type that a grant lets the caller set.
    pub fn settable<'a>(&'a self, id: TypeId, grant: &'a WriteGrant) -> impl Iterator<Item = (ColumnId, &'a str)> {
        let t = &self.model.types[id];
        t.columns.iter().enumerate().filter_map(|(column, c)| {
            let granted = grant.columns.get(column).copied().unwrap_or(false);
            let fixed = grant.fixed.iter().any(|(fixed, _)| *fixed == column);
            c.field.as_deref().filter(|_| granted && !fixed && !c.input.computed).map(|field| (column, field))
        })
    }

    /// The to-one links of a type whose own columns a grant lets the caller set.
    pub fn settable_links<'a>(&'a self, id: TypeId, grant: &'a WriteGrant) -> impl Iterator<Item = (LinkId, &'a Link)> {
        let settable: Vec<ColumnId> = self.settable(id, grant).map(|(column, _)| column).collect();
        self.links(id).filter(move |(_, link)| {
            link.cardinality == Cardinality::One
                && link.through.is_none()
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
