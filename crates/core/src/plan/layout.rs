//! Where in a row its select's outputs and its children are.

use super::{Output, Select, SelectId};
use crate::model::Model;

/// The fields of every select's rows: its outputs, and then its children's places, in the order of their ids. A joined
/// child's place is its own fields, and before them a mark where none of them tells whether it is there.
#[derive(Debug, Default)]
pub(super) struct Layout {
    joined: Vec<bool>,
    places: Vec<usize>,
    fields: Vec<usize>,
    witnesses: Vec<Option<usize>>,
}

impl Layout {
    /// `joined` tells which selects are joined to their parent's rows; `nested`, whether others are a field of theirs.
    pub(super) fn new(model: &Model, selects: &[Select], joined: Vec<bool>, nested: bool) -> Self {
        let witnesses: Vec<Option<usize>> = selects.iter().map(|select| witness(model, select)).collect();
        let mut places = vec![0; selects.len()];
        let mut fields: Vec<usize> = selects.iter().map(|select| select.output.len()).collect();
        // Children follow their parents, so that a child's own fields are known before its siblings' places.
        for parent in (0..selects.len()).rev() {
            for (child, select) in selects.iter().enumerate().skip(parent + 1) {
                if !select.read || select.parent.as_ref().is_none_or(|join| join.select != parent) {
                    continue;
                }
                places[child] = fields[parent];
                fields[parent] += match joined[child] {
                    true => usize::from(witnesses[child].is_none()) + fields[child],
                    false => usize::from(nested),
                };
            }
        }
        Layout { joined, places, fields, witnesses }
    }

    pub(super) fn is_joined(&self, select: SelectId) -> bool {
        self.joined[select]
    }

    /// Where in its parent's row a child begins.
    pub(super) fn place(&self, select: SelectId) -> usize {
        self.places[select]
    }

    pub(super) fn fields(&self, select: SelectId) -> usize {
        self.fields[select]
    }

    /// Where in its parent's row a joined child's own fields begin.
    pub(super) fn first(&self, select: SelectId) -> usize {
        self.places[select] + usize::from(self.witnesses[select].is_none())
    }

    /// Which field of its parent's row is null exactly where a joined child is not there.
    pub(super) fn witness(&self, select: SelectId) -> usize {
        self.places[select] + self.witnesses[select].unwrap_or(0)
    }
}

/// The output of a select that is null in no row: of a column that cannot be, or that equals something in every row.
pub fn witness(model: &Model, select: &Select) -> Option<usize> {
    let columns = &model.types[select.of].columns;
    let links = |column: usize| {
        let direct = select.parent.as_ref().filter(|parent| parent.through.is_none());
        direct.is_some_and(|parent| parent.pairs.iter().any(|(_, linked)| *linked == column))
    };
    select.output.iter().position(|output| match output {
        Output::Column(column) if select.masks.iter().any(|(masked, _)| masked == column) => false,
        Output::Column(column) => !columns[*column].nullable || links(*column),
        _ => false,
    })
}
