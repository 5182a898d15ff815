//! Where in a row its select's outputs and its children are.

use super::{Capabilities, Output, RowSet, Select, SelectId};
use crate::model::Model;

/// To-one links that are joined to one select's rows at most: engines have limits, and planners lose heart before.
const MOST_JOINS: usize = 8;

/// Which selects are joined to their parent's rows: those of links to one in the same source, of which at most one row can be
/// there, where the source joins rows.
pub(super) fn joined(model: &Model, selects: &[Select], capabilities: &[Capabilities]) -> Vec<bool> {
    let mut joined = vec![false; selects.len()];
    let mut joins = vec![0; selects.len()];
    for (id, select) in selects.iter().enumerate() {
        let Some(parent) = &select.parent else { continue };
        let mut base = parent.select;
        while joined[base] {
            let Some(above) = &selects[base].parent else { break };
            base = above.select;
        }
        let given = matches!(selects[base].row_set, RowSet::Supplied);
        let source = model.types[select.of].source;
        let is_here = model.types[selects[parent.select].of].source == source && capabilities[source].joins;
        let is_plain = is_here && parent.through.is_none() && !given;
        if matches!(select.row_set, RowSet::Single) && is_plain && joins[base] < MOST_JOINS {
            joins[base] += 1;
            joined[id] = true;
        }
    }
    joined
}

/// The fields of every select's rows: its outputs, and then those of its joined children, in the order of their ids: a
/// child's own fields, and before them a mark where none of them tells whether it is there.
#[derive(Debug, Default)]
pub(super) struct Layout {
    joined: Vec<bool>,
    places: Vec<usize>,
    fields: Vec<usize>,
    presence_columns: Vec<Option<usize>>,
}

impl Layout {
    /// `joined` tells which selects are joined to their parent's rows.
    pub(super) fn new(model: &Model, selects: &[Select], joined: Vec<bool>) -> Self {
        let presence_columns: Vec<Option<usize>> =
            selects.iter().map(|select| presence_column(model, select)).collect();
        let mut places = vec![0; selects.len()];
        let mut fields: Vec<usize> = selects.iter().map(|select| select.output.len()).collect();
        // Children follow their parents, so that a child's own fields are known before its siblings' places.
        for parent in (0..selects.len()).rev() {
            for (child, select) in selects.iter().enumerate().skip(parent + 1) {
                let is_of_parent = select.parent.as_ref().is_some_and(|join| join.select == parent);
                if select.read && joined[child] && is_of_parent {
                    places[child] = fields[parent];
                    fields[parent] += usize::from(presence_columns[child].is_none()) + fields[child];
                }
            }
        }
        Layout { joined, places, fields, presence_columns }
    }

    pub(super) fn is_joined(&self, select: SelectId) -> bool {
        self.joined[select]
    }

    pub(super) fn fields(&self, select: SelectId) -> usize {
        self.fields[select]
    }

    /// Where in its parent's row a joined child's own fields begin.
    pub(super) fn first(&self, select: SelectId) -> usize {
        self.places[select] + usize::from(self.presence_columns[select].is_none())
    }

    /// Which field of its parent's row is null exactly where a joined child is not there.
    pub(super) fn presence_column(&self, select: SelectId) -> usize {
        self.places[select] + self.presence_columns[select].unwrap_or(0)
    }
}

/// The output of a select that is null in no row: of a column that cannot be, or that equals something in every row.
pub fn presence_column(model: &Model, select: &Select) -> Option<usize> {
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
