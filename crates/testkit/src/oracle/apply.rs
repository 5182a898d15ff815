//! What becomes of the rows in memory by a mutation: the same as of the database, or nothing, where something is refused.

use std::collections::BTreeSet;
use std::sync::Arc;

use puente_core::access::{Operand, View, WriteGrant};
use puente_core::catalog::Engine;
use puente_core::model::{Cardinality, FieldType, TypeId};
use puente_core::value::{Datum, Scalar};

use super::change::{Act, Edge, NewRow, RandomChange, Root, Set, Target, Which, fixed};
use super::interpret::Interpreter;
use super::json::{document, typed, untyped};
use super::json_change::JsonEdit;
use super::rule::{compare, judge, value};
use super::world::World;

/// Why a mutation is refused: the codes of everything that is wrong with it, of which the first that is met is reported.
pub(super) type Refused = BTreeSet<&'static str>;

/// What the oracle expects of a mutation.
#[derive(Debug)]
pub enum Expected {
    /// The answer's data, and the paths of its errors. The world's rows are as they then are.
    Done(String, Vec<String>),
    /// Nothing is changed.
    Refused(Refused),
    /// An engine's own order of work decides, which the oracle does not know.
    Unknown,
}

impl RandomChange {
    /// Is it about one row alone? Of several, which is refused first is the engine's business.
    pub fn is_simple(&self) -> bool {
        let [root] = self.roots.as_slice() else { return false };
        match &root.act {
            Act::Create { rows, .. } => {
                matches!(rows.as_slice(), [row] if row.ones.is_empty() && row.many.is_empty() && row.edges.is_empty())
            }
            Act::Update { rows, set } => matches!(rows, Which::Key(_)) && set.edges.is_empty(),
            Act::Delete { rows } => matches!(rows, Which::Key(_)),
        }
    }

    /// Does it change JSON in part?
    pub fn changes_json(&self) -> bool {
        self.roots.iter().any(|root| matches!(&root.act, Act::Update { set, .. } if !set.json.is_empty()))
    }

    /// Applies the mutation to the world's rows; puts them back where it is refused.
    pub fn apply(&self, world: &mut World, view: &View) -> Expected {
        let before = world.rows.clone();
        let mut members = Vec::new();
        let mut problems = Vec::new();
        let mut checks: Vec<Check> = Vec::new();
        let result = self.roots.iter().try_for_each(|root| {
            let mut run = Run { world, view, checks: &mut checks, several: self.roots.len() > 1 };
            let answer = run.root(root, &mut problems)?;
            members.push(format!("\"{}\":{answer}", root.key));
            Ok(())
        });
        let result = result.and_then(|()| checks.iter().try_for_each(|check| check.hold(world, view)));
        match result {
            Ok(()) => Expected::Done(format!("{{{}}}", members.join(",")), problems),
            Err(refusal) => {
                world.rows = before;
                match refusal {
                    Some(code) => Expected::Refused(BTreeSet::from_iter(code)),
                    None => Expected::Unknown,
                }
            }
        }
    }
}

/// Codes, of which one is reported; none where the oracle does not know.
type Refusal = Option<Vec<&'static str>>;
type Row = Vec<Datum>;

/// A row that must satisfy a grant in the end, too, if it is then still there.
struct Check {
    of: TypeId,
    created: bool,
    key: Row,
}

impl Check {
    fn hold(&self, world: &World, view: &View) -> Result<(), Refusal> {
        let Some(granted) = view.type_view(self.of) else { return Ok(()) };
        let rule = if self.created {
            granted.create.as_ref().and_then(|grant| grant.check.clone()).or_else(|| granted.rows.clone())
        } else {
            granted.update.as_ref().and_then(|grant| grant.check.clone().or_else(|| grant.rows.clone()))
        };
        let columns = &row_key(world, self.of);
        let found =
            world.rows[self.of].iter().find(|row| columns.iter().zip(&self.key).all(|(c, cell)| row[*c] == *cell));
        match (rule, found) {
            (Some(rule), Some(row)) if judge(world, self.of, row, &rule) != Some(true) => {
                Err(Some(vec!["NOT_PERMITTED"]))
            }
            _ => Ok(()),
        }
    }
}

fn row_key(world: &World, of: TypeId) -> Vec<usize> {
    world.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default()
}

/// Does a grant set a column, whatever the caller says?
fn is_fixed(grant: Option<&WriteGrant>, column: usize) -> bool {
    grant.is_some_and(|grant| grant.fixed.iter().any(|(fixed, _)| *fixed == column))
}

fn refuse<T>(code: &'static str) -> Result<T, Refusal> {
    Err(Some(vec![code]))
}

struct Run<'w, 'c> {
    world: &'w mut World,
    view: &'w View,
    checks: &'c mut Vec<Check>,
    /// Are there several root fields?
    several: bool,
}

impl Run<'_, '_> {
    fn root(&mut self, root: &Root, problems: &mut Vec<String>) -> Result<String, Refusal> {
        let of = root.of;
        match &root.act {
            Act::Create { rows, existing } => {
                let keys = match existing {
                    Some((key, act)) if *act != "REFUSE" => self.create_or_change(of, rows, key, act)?,
                    _ => self.create(of, rows, &vec![Vec::new(); rows.len()])?,
                };
                Ok(self.answer(root, &keys, problems))
            }
            Act::Update { rows, set } => {
                let found = self.addressed(of, rows, self.view.type_view(of).and_then(|view| view.update.clone()))?;
                let keys = self.update(of, &found, set)?;
                Ok(self.answer(root, &keys, problems))
            }
            Act::Delete { rows } => {
                let found = self.addressed(of, rows, self.view.type_view(of).and_then(|view| view.delete.clone()))?;
                let answer = self.answer(root, &found, problems);
                self.delete(of, &found)?;
                Ok(answer)
            }
        }
    }

    fn answer(&self, root: &Root, keys: &[Row], problems: &mut Vec<String>) -> String {
        let mut interpreter = Interpreter::new(self.world, self.view);
        let mut nodes = Vec::new();
        for key in keys {
            let Some(at) = self.at(root.of, key).filter(|at| interpreter.sees(root.of, *at)) else { continue };
            interpreter.path = vec![root.key.clone(), if root.many { "nodes".to_owned() } else { "node".to_owned() }];
            if root.many {
                interpreter.path.push(nodes.len().to_string());
            }
            nodes.push(interpreter.object(root.of, at, &root.fields));
        }
        problems.append(&mut interpreter.problems);
        let node = match root.many {
            true => format!("\"nodes\":[{}]", nodes.join(",")),
            false => format!("\"node\":{}", nodes.first().map_or("null", String::as_str)),
        };
        format!("{{\"count\":{},{node}}}", keys.len())
    }

    fn at(&self, of: TypeId, key: &[Datum]) -> Option<usize> {
        let columns = row_key(self.world, of);
        self.world.rows[of].iter().position(|row| columns.iter().zip(key).all(|(column, cell)| row[*column] == *cell))
    }

    fn key_of(&self, of: TypeId, row: &[Datum]) -> Row {
        row_key(self.world, of).iter().map(|column| row[*column].clone()).collect()
    }

    fn sees(&self, of: TypeId, row: &[Datum]) -> bool {
        self.view.rows(of).is_none_or(|rule| judge(self.world, of, row, rule) == Some(true))
    }

    /// The keys of rows that are visible, within the grant, and meant, in the order of their keys.
    fn addressed(&self, of: TypeId, which: &Which, grant: Option<WriteGrant>) -> Result<Vec<Row>, Refusal> {
        let rules: Vec<_> = grant.and_then(|grant| grant.rows).into_iter().collect();
        let interpreter = Interpreter::new(self.world, self.view);
        let meant = |row: &Row| match which {
            Which::Key(key) => key.iter().all(|(column, cell)| row[*column] == *cell),
            Which::Filter(filter) => interpreter.passes(of, &interpreter.shown_row(of, row), filter) == Some(true),
            Which::Every => true,
        };
        let within = |row: &Row| rules.iter().all(|rule| judge(self.world, of, row, rule) == Some(true));
        let mut found: Vec<Row> = self.world.rows[of]
            .iter()
            .filter(|row| self.sees(of, row) && within(row) && meant(row))
            .map(|row| self.key_of(of, row))
            .collect();
        let columns = row_key(self.world, of);
        found.sort_by(|a, b| {
            let parts = columns.iter().zip(a.iter().zip(b));
            parts.fold(std::cmp::Ordering::Equal, |order, (column, (a, b))| {
                order.then_with(|| compare(a, b, self.world.collation(of, *column)))
            })
        });
        if matches!(which, Which::Key(_)) && found.is_empty() {
            let is_there = self.world.rows[of].iter().any(|row| self.sees(of, row) && meant(row));
            return refuse(if is_there { "NOT_PERMITTED" } else { "ROW_MISSING" });
        }
        Ok(found)
    }

    /// The row of a target that can be seen.
    fn target(&self, of: TypeId, key: &[(usize, Datum)]) -> Result<Row, Refusal> {
        let found = self.world.rows[of].iter().find(|row| key.iter().all(|(column, cell)| row[*column] == *cell));
        match found.filter(|row| self.sees(of, row)) {
            Some(row) => Ok(row.clone()),
            None => refuse("REFERENCE_BROKEN"),
        }
    }

    /// May the columns of links be set to what is said directly? To rows that can be read, and to none of a type that cannot.
    fn check_direct(&self, of: TypeId, values: &[(usize, Datum)], grant: Option<&WriteGrant>) -> Result<(), Refusal> {
        for link in &self.world.model.types[of].links {
            let said = |column: usize| values.iter().find(|(known, _)| *known == column && !is_fixed(grant, column));
            let value = |column: usize| said(column).map(|(_, cell)| cell);
            let cells: Option<Vec<&Datum>> = link.pairs.iter().map(|(own, _)| value(*own)).collect();
            let Some(cells) = cells.filter(|_| link.cardinality == Cardinality::One && !link.pairs.is_empty()) else {
                continue;
            };
            if cells.contains(&&Datum::Null) {
                continue;
            }
            match self.view.type_view(link.target) {
                None => return refuse("REFERENCE_BROKEN"),
                // The database looks at the reference itself.
                Some(granted) if granted.rows.is_none() => {}
                Some(_) => {
                    let key: Vec<(usize, Datum)> =
                        link.pairs.iter().map(|(_, target)| *target).zip(cells.into_iter().cloned()).collect();
                    let holds = |row: &Row, pairs: &[(usize, Datum)]| pairs.iter().all(|(at, cell)| row[*at] == *cell);
                    let own: Vec<(usize, Datum)> =
                        link.pairs.iter().zip(&key).map(|((own, _), (_, cell))| (*own, cell.clone())).collect();
                    let is_there = self.world.rows[link.target].iter().any(|row| holds(row, &key));
                    // A reference that leads nowhere and stays as it was is seen by our own look at the target alone, and
                    // there is no such look where the claims decide the rule for every row.
                    if !is_there && self.world.rows[of].iter().any(|row| holds(row, &own)) {
                        return Err(None);
                    }
                    self.target(link.target, &key)?;
                }
            }
        }
        Ok(())
    }

    /// What is set in a row that is there already where these values are said: by the grant to update.
    fn change_of(
        &self,
        of: TypeId,
        said: impl Iterator<Item = (usize, Datum)>,
        own: Option<&Row>,
    ) -> Result<Vec<(usize, Datum)>, Refusal> {
        let grant = self.view.type_view(of).and_then(|view| view.update.as_ref());
        let settable: Vec<usize> =
            grant.map(|grant| self.view.settable(of, grant).map(|(column, _)| column).collect()).unwrap_or_default();
        let replaces = |column: usize| grant.is_some_and(|grant| self.view.sets_all((of, column), grant));
        let mut set: Vec<(usize, Datum)> = said.filter(|(column, _)| !is_fixed(grant, *column)).collect();
        if set.iter().any(|(column, _)| !settable.contains(column) || !replaces(*column)) {
            return refuse("NOT_PERMITTED");
        }
        set.extend(grant.into_iter().flat_map(fixed));
        match self.check_direct(of, &set, grant) {
            Ok(()) => Ok(set),
            Err(refusal) => self.or_conflict(of, &set, own, refusal),
        }
    }

    fn create(&mut self, of: TypeId, rows: &[NewRow], given: &[Vec<(usize, Datum)>]) -> Result<Vec<Row>, Refusal> {
        let model = Arc::clone(&self.world.model);
        let mut values: Vec<Vec<(usize, Datum)>> =
            rows.iter().zip(given).map(|(row, given)| row.values.iter().chain(given).cloned().collect()).collect();
        for (row, values) in rows.iter().zip(&values) {
            let grant = self.view.type_view(of).and_then(|view| view.create.as_ref());
            if let Err(refusal) = self.check_direct(of, &row.values, grant) {
                return self.or_conflict(of, values, None, refusal);
            }
        }
        for (id, link) in model.types[of].links.iter().enumerate() {
            // Those that are there are looked for before others are created.
            for new in [false, true] {
                for (at, row) in rows.iter().enumerate() {
                    let Some((_, target)) = row.ones.iter().find(|(link, _)| *link == id) else { continue };
                    let found = match target {
                        Target::Key(key) if !new => self.target(link.target, key)?,
                        Target::New(row) if new => {
                            let keys = self.create(link.target, std::slice::from_ref(&**row), &[Vec::new()])?;
                            let at = self.at(link.target, &keys[0]).expect("just created");
                            self.world.rows[link.target][at].clone()
                        }
                        _ => continue,
                    };
                    values[at].extend(link.pairs.iter().map(|(own, target)| (*own, found[*target].clone())));
                }
            }
        }
        self.fix_linked(of, &mut values);
        let keys: Vec<Row> = values.iter().map(|values| self.insert(of, values)).collect::<Result<_, _>>()?;
        for (id, link) in model.types[of].links.iter().enumerate() {
            for (row, key) in rows.iter().zip(&keys) {
                let own = self.world.rows[of][self.at(of, key).expect("just created")].clone();
                for (_, children) in row.many.iter().filter(|(link, _)| *link == id) {
                    let given: Vec<(usize, Datum)> =
                        link.pairs.iter().map(|(column, target)| (*target, own[*column].clone())).collect();
                    self.create(link.target, children, &vec![given; children.len()])?;
                }
                for (_, edges) in row.edges.iter().filter(|(link, _)| *link == id) {
                    self.link_new(link, &own, edges)?;
                }
            }
        }
        self.check(of, true, &keys)?;
        Ok(keys)
    }

    fn link_new(&mut self, link: &puente_core::model::Link, own: &[Datum], edges: &[Edge]) -> Result<(), Refusal> {
        let Some(through) = &link.through else { return Ok(()) };
        let mut rows = Vec::new();
        let created_by = self.view.type_view(through.join).and_then(|view| view.create.clone());
        for edge in edges {
            let target = self.target(link.target, &edge.target)?;
            self.check_direct(through.join, &edge.values, created_by.as_ref())?;
            let near = through.near.iter().map(|(column, join)| (*join, own[*column].clone()));
            let far = through.far.iter().map(|(join, column)| (*join, target[*column].clone()));
            let values: Vec<(usize, Datum)> = near.chain(far).chain(edge.values.iter().cloned()).collect();
            rows.push(values);
        }
        self.fix_linked(through.join, &mut rows);
        let keys: Vec<Row> = rows.iter().map(|values| self.insert(through.join, values)).collect::<Result<_, _>>()?;
        self.check(through.join, true, &keys)
    }

    /// What the grant to create fixes from linked rows, in rows to be inserted.
    fn fix_linked(&self, of: TypeId, rows: &mut [Vec<(usize, Datum)>]) {
        let grant = self.view.type_view(of).and_then(|view| view.create.as_ref());
        let columns = self.world.model.types[of].columns.len();
        for values in rows {
            let said = |column: usize| values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
            let row: Row = (0..columns).map(|column| said(column).unwrap_or(Datum::Null)).collect();
            let linked = self.linked(of, grant, &row);
            values.extend(linked);
        }
    }

    /// What the grant to update fixes from linked rows, in rows that were changed.
    fn set_linked(&mut self, of: TypeId, keys: &[Row]) -> Result<(), Refusal> {
        let grant = self.view.type_view(of).and_then(|view| view.update.as_ref());
        let places: Vec<usize> = keys.iter().filter_map(|key| self.at(of, key)).collect();
        let linked: Vec<_> = places.iter().map(|at| self.linked(of, grant, &self.world.rows[of][*at])).collect();
        for (at, values) in places.into_iter().zip(linked) {
            // They are a second statement: PostgreSQL looks at all references of a row that the same transaction wrote before.
            let everything: Vec<usize> = (0..self.world.model.types[of].columns.len()).collect();
            let is_postgres = self.world.databases[0].engine == Engine::Postgres;
            if !values.is_empty() && is_postgres && self.dangles(of, &self.world.rows[of][at], &everything) {
                return Err(None);
            }
            for (column, cell) in values {
                self.world.rows[of][at][column] = cell;
            }
        }
        Ok(())
    }

    fn linked(&self, of: TypeId, grant: Option<&WriteGrant>, row: &[Datum]) -> Vec<(usize, Datum)> {
        let fixed = grant.into_iter().flat_map(|grant| &grant.fixed);
        let linked = fixed.filter_map(|(column, operand)| match operand {
            Operand::Value(path) => Some((*column, value(self.world, of, row, path).1)),
            Operand::Constant(_) | Operand::Parameter(_) => None,
        });
        linked.collect()
    }

    fn insert(&mut self, of: TypeId, values: &[(usize, Datum)]) -> Result<Row, Refusal> {
        let t = &self.world.model.types[of];
        let automatic = |column: usize| {
            let is_only = t.row_key().is_some_and(|key| key.columns == [column]);
            (self.world.databases[0].engine == Engine::Sqlite
                && is_only
                && t.columns[column].kind == FieldType::Scalar(Scalar::Int))
            .then(|| {
                let known = self.world.rows[of].iter().filter_map(|row| match row[column] {
                    Datum::Integer(value) => Some(value),
                    _ => None,
                });
                Datum::Integer(known.max().unwrap_or(0) + 1)
            })
        };
        let left_out = |column: usize| match automatic(column) {
            Some(cell) => cell,
            // The one default of the worlds.
            None if t.columns[column].input.filled => Datum::Text("x".to_owned()),
            None => Datum::Null,
        };
        let value = |column: usize| values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
        let is_numbered = |column: &usize| t.columns[*column].kind == FieldType::Scalar(Scalar::ObjectId);
        let key = t.row_key().map(|key| key.columns.as_slice()).unwrap_or_default();
        if self.world.engine(of) == Engine::Mongodb
            && key.iter().any(|column| is_numbered(column) && value(*column).is_none())
        {
            // Nobody knows which identifier it is given.
            return Err(None);
        }
        let cells = (0..t.columns.len()).map(|column| value(column).unwrap_or_else(|| left_out(column)));
        let row: Row = typed(&self.world.model, of, cells.collect());
        // Where a key is taken and a reference leads nowhere, the key is told first.
        if t.keys.iter().any(|key| self.is_taken(of, &key.columns, &row, None)) {
            return refuse("CONFLICT");
        }
        self.world.rows[of].push(row.clone());
        if self.dangles(of, &row, &(0..t.columns.len()).collect::<Vec<_>>()) {
            // SQLite sets what a row leaves open off against what it answers.
            if self.world.databases[0].engine == Engine::Sqlite && self.is_referred_to(of, &row, None) {
                return Err(None);
            }
            return refuse("REFERENCE_BROKEN");
        }
        Ok(self.key_of(of, &row))
    }

    /// What is told of a row whose references cannot be set: that a key of it is taken, where it is.
    fn or_conflict<T>(
        &self,
        of: TypeId,
        values: &[(usize, Datum)],
        own: Option<&Row>,
        refusal: Refusal,
    ) -> Result<T, Refusal> {
        let at = own.and_then(|own| self.at(of, own));
        let before = at.map(|at| self.world.rows[of][at].clone());
        let columns = self.world.model.types[of].columns.len();
        let said = |column: usize| values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
        let old = |column: usize| before.as_ref().map_or(Datum::Null, |row| row[column].clone());
        let row: Row = (0..columns).map(|column| said(column).unwrap_or_else(|| old(column))).collect();
        let taken = self.world.model.types[of].keys.iter().any(|key| {
            key.columns.iter().any(|column| said(*column).is_some()) && self.is_taken(of, &key.columns, &row, at)
        });
        if taken && refusal.as_ref().is_some_and(|codes| codes.contains(&"REFERENCE_BROKEN")) {
            return refuse("CONFLICT");
        }
        Err(refusal)
    }

    fn is_taken(&self, of: TypeId, key: &[usize], row: &[Datum], but: Option<usize>) -> bool {
        // A unique index of MongoDB takes null for a value.
        let is_value = |cell: &Datum| *cell != Datum::Null || self.world.engine(of) == Engine::Mongodb;
        let same = |other: &Row| {
            key.iter().all(|column| {
                let collation = self.world.collation(of, *column);
                is_value(&other[*column])
                    && is_value(&row[*column])
                    && compare(&other[*column], &row[*column], collation).is_eq()
            })
        };
        self.world.rows[of].iter().enumerate().any(|(at, other)| Some(at) != but && same(other))
    }

    /// Does a foreign key of the changed columns refer to nothing?
    fn dangles(&self, of: TypeId, row: &[Datum], changed: &[usize]) -> bool {
        // Documents may refer to what is not there.
        self.world.engine(of) != Engine::Mongodb
            && self.world.model.types[of].links.iter().any(|link| {
                let own = || link.pairs.iter().map(|(own, _)| *own);
                let concerns = link.cardinality == Cardinality::One && !link.pairs.is_empty();
                concerns
                    && own().any(|column| changed.contains(&column))
                    && own().all(|column| row[column] != Datum::Null)
                    && !self.world.rows[link.target]
                        .iter()
                        .any(|target| link.pairs.iter().all(|(own, other)| target[*other] == row[*own]))
            })
    }

    fn create_or_change(&mut self, of: TypeId, rows: &[NewRow], key: &[usize], act: &str) -> Result<Vec<Row>, Refusal> {
        let value = |row: &NewRow, column: usize| {
            row.values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone())
        };
        let wanted: Vec<Row> = rows
            .iter()
            .map(|row| key.iter().map(|column| value(row, *column)).collect::<Option<Row>>().ok_or(None))
            .collect::<Result<_, _>>()?;
        let changes = act == "CHANGE";
        let rule = self.view.type_view(of).and_then(|view| view.update.as_ref()).and_then(|grant| grant.rows.clone());
        let within =
            |row: &Row| !changes || rule.as_ref().is_none_or(|rule| judge(self.world, of, row, rule) == Some(true));
        let found: Vec<Option<Row>> = wanted
            .iter()
            .map(|wanted| {
                let same = |row: &&Row| {
                    key.iter().zip(wanted).all(|(column, cell)| *cell != Datum::Null && row[*column] == *cell)
                };
                let found = self.world.rows[of].iter().find(same);
                found.filter(|row| self.sees(of, row) && within(row)).map(|row| self.key_of(of, row))
            })
            .collect();
        for (at, key) in wanted.iter().enumerate() {
            if wanted[..at].contains(key) && !key.contains(&Datum::Null) {
                return refuse("CONFLICT");
            }
        }
        let mut keys: Vec<Row> = Vec::new();
        for (row, found) in rows.iter().zip(&found) {
            keys.push(match found {
                Some(key) => key.clone(),
                None => self.create(of, std::slice::from_ref(row), &[Vec::new()])?.remove(0),
            });
        }
        if !changes {
            return Ok(keys);
        }
        let there: Vec<usize> = (0..rows.len()).filter(|at| found[*at].is_some()).collect();
        let created_by = self.view.type_view(of).and_then(|view| view.create.clone());
        let mut sets = Vec::new();
        for at in &there {
            let said = rows[*at].values.iter().cloned();
            let said = said.filter(|(column, _)| !key.contains(column) && !is_fixed(created_by.as_ref(), *column));
            sets.push(self.change_of(of, said, Some(&keys[*at]))?);
        }
        for (at, set) in there.iter().zip(&sets) {
            keys[*at] = self.change_row(of, &keys[*at], set, &[], &[])?;
        }
        let changed: Vec<Row> = there.into_iter().map(|at| keys[at].clone()).collect();
        self.set_linked(of, &changed)?;
        self.check(of, false, &changed)?;
        Ok(keys)
    }

    /// Sets columns of one row, and adds to others; gives its key as it then is.
    fn change_row(
        &mut self,
        of: TypeId,
        key: &[Datum],
        set: &[(usize, Datum)],
        add: &[(usize, i64)],
        json: &[(usize, JsonEdit)],
    ) -> Result<Row, Refusal> {
        let at = self.at(of, key).expect("a row that is there");
        let model = Arc::clone(&self.world.model);
        let mut row = untyped(&model, of, &self.world.rows[of][at]);
        for (column, cell) in set {
            row[*column] = cell.clone();
        }
        for (column, edit) in json {
            let before = document(&model, of, &self.world.rows[of][at], *column);
            let interpreter = Interpreter::new(self.world, self.view);
            let after = edit.apply(&interpreter, before).ok_or(Some(vec!["VALUE_REFUSED"]))?;
            row[*column] = after.map_or(Datum::Null, |after| Datum::Text(after.to_string()));
        }
        let mut row = typed(&model, of, row);
        for (column, more) in add {
            row[*column] = match &row[*column] {
                Datum::Integer(value) => Datum::Integer(value + more),
                Datum::Null => Datum::Null,
                // Numbers that do not fit their column are an engine's own business.
                _ => return Err(None),
            };
        }
        let changed: Vec<usize> =
            set.iter().map(|(column, _)| *column).chain(add.iter().map(|(column, _)| *column)).collect();
        let taken = self.world.model.types[of].keys.iter().any(|key| {
            key.columns.iter().any(|column| changed.contains(column)) && self.is_taken(of, &key.columns, &row, Some(at))
        });
        let moved = self.is_referred_to(of, &self.world.rows[of][at], Some(&row));
        let out_of_range = |cell: &Datum| matches!(cell, Datum::Integer(value) if i16::try_from(*value).is_err());
        if add.iter().any(|(column, _)| out_of_range(&row[*column])) {
            return Err(None);
        }
        // Servers look at a reference only where it becomes another one; PostgreSQL also where the row was written before in
        // the same transaction, SQLite wherever it is set, and at one to its own table in a way of its own.
        let old = std::mem::replace(&mut self.world.rows[of][at], row.clone());
        let t = &self.world.model.types[of];
        let engine = self.world.databases[0].engine;
        let own = t.links.iter().filter(|link| link.target == of).flat_map(|link| &link.pairs).map(|(own, _)| *own);
        let looked_at: Vec<usize> = own.chain(changed.iter().copied()).collect();
        if engine == Engine::Sqlite && self.dangles(of, &old, &looked_at) {
            return Err(None);
        }
        let changed: Vec<usize> =
            changed.into_iter().filter(|column| engine == Engine::Sqlite || old[*column] != row[*column]).collect();
        let everything: Vec<usize> = (0..t.columns.len()).collect();
        if self.several && engine == Engine::Postgres && self.dangles(of, &row, &everything) {
            return Err(None);
        }
        if taken {
            return refuse("CONFLICT");
        }
        if moved || self.dangles(of, &row, &changed) {
            return refuse("REFERENCE_BROKEN");
        }
        Ok(self.key_of(of, &row))
    }

    /// Do others refer to what a row is (and no longer will be)?
    fn is_referred_to(&self, of: TypeId, row: &[Datum], then: Option<&Row>) -> bool {
        self.world.engine(of) != Engine::Mongodb
            && self.world.model.types.iter().enumerate().any(|(other, t)| {
                t.links.iter().any(|link| {
                    let refers = link.cardinality == Cardinality::One && link.target == of && !link.pairs.is_empty();
                    let stays =
                        || then.is_some_and(|then| link.pairs.iter().all(|(_, column)| then[*column] == row[*column]));
                    refers
                        && !stays()
                        && self.world.rows[other].iter().any(|from| {
                            link.pairs
                                .iter()
                                .all(|(own, column)| from[*own] != Datum::Null && from[*own] == row[*column])
                        })
                })
            })
    }

    fn update(&mut self, of: TypeId, found: &[Row], set: &Set) -> Result<Vec<Row>, Refusal> {
        if found.is_empty() {
            return Ok(Vec::new());
        }
        let grant = self.view.type_view(of).and_then(|view| view.update.as_ref());
        if let Err(refusal) = self.check_direct(of, &set.values, grant) {
            // The same is set in all of them: any of them may meet another.
            let conflicts = found.iter().map(|own| self.or_conflict::<()>(of, &set.values, Some(own), refusal.clone()));
            let first = conflicts
                .filter_map(Result::err)
                .find(|told| told.as_ref().is_some_and(|codes| codes.contains(&"CONFLICT")));
            return Err(first.unwrap_or(refusal));
        }
        let model = Arc::clone(&self.world.model);
        let mut values = set.values.clone();
        for (id, key) in &set.ones {
            let link = &model.types[of].links[*id];
            let target = self.target(link.target, key)?;
            values.extend(link.pairs.iter().map(|(own, column)| (*own, target[*column].clone())));
        }
        let keys: Vec<Row> =
            found.iter().map(|key| self.change_row(of, key, &values, &set.add, &set.json)).collect::<Result<_, _>>()?;
        self.set_linked(of, &keys)?;
        for (id, add, remove) in &set.edges {
            self.change_edges(&model.types[of].links[*id], of, &keys, add, remove)?;
        }
        self.check(of, false, &keys)?;
        Ok(keys)
    }

    fn change_edges(
        &mut self,
        link: &puente_core::model::Link,
        of: TypeId,
        keys: &[Row],
        add: &[Edge],
        remove: &[Vec<(usize, Datum)>],
    ) -> Result<(), Refusal> {
        let Some(through) = &link.through else { return Ok(()) };
        let join = through.join;
        let own: Vec<Row> =
            keys.iter().map(|key| self.world.rows[of][self.at(of, key).expect("there")].clone()).collect();
        let ends = |own: &Row, target: &Row| -> Vec<(usize, Datum)> {
            let near = through.near.iter().map(|(column, join)| (*join, own[*column].clone()));
            near.chain(through.far.iter().map(|(join, column)| (*join, target[*column].clone()))).collect()
        };
        let granted = self.view.type_view(join).cloned();
        let within = |run: &Self, row: &Row, grant: &Option<WriteGrant>| {
            let rule = grant.as_ref().and_then(|grant| grant.rows.clone());
            run.sees(join, row) && rule.is_none_or(|rule| judge(run.world, join, row, &rule) == Some(true))
        };
        let targets: Vec<Row> = remove.iter().map(|key| self.target(link.target, key)).collect::<Result<_, _>>()?;
        let delete = granted.as_ref().and_then(|granted| granted.delete.clone());
        let gone: Vec<Vec<(usize, Datum)>> =
            own.iter().flat_map(|own| targets.iter().map(|target| ends(own, target))).collect();
        let rows = self.world.rows[join].clone();
        let kept = rows.into_iter().filter(|row| {
            !(gone.iter().any(|ends| ends.iter().all(|(column, cell)| row[*column] == *cell))
                && within(self, row, &delete))
        });
        self.world.rows[join] = kept.collect();
        let targets: Vec<Row> =
            add.iter().map(|edge| self.target(link.target, &edge.target)).collect::<Result<_, _>>()?;
        let update = granted.as_ref().and_then(|granted| granted.update.clone());
        let created_by = granted.as_ref().and_then(|granted| granted.create.clone());
        let (mut new, mut there) = (Vec::new(), Vec::new());
        for own in &own {
            for (edge, target) in add.iter().zip(&targets) {
                let ends = ends(own, target);
                let found =
                    self.world.rows[join].iter().find(|row| ends.iter().all(|(column, cell)| row[*column] == *cell));
                match found.filter(|row| update.is_some() && within(self, row, &update)) {
                    Some(row) => {
                        let key = self.key_of(join, row);
                        let own = row_key(self.world, join);
                        let said = || {
                            let is_said = |column| !is_fixed(created_by.as_ref(), column) && !own.contains(&column);
                            edge.values.iter().filter(move |(column, _)| is_said(*column))
                        };
                        if said().next().is_some() {
                            let set = self.change_of(join, said().cloned(), Some(&key))?;
                            there.push((key, set));
                        }
                    }
                    None => {
                        self.check_direct(join, &edge.values, created_by.as_ref())?;
                        new.push(ends.into_iter().chain(edge.values.iter().cloned()).collect::<Vec<_>>());
                    }
                }
            }
        }
        let twice = (0..there.len()).any(|at| there[..at].iter().any(|(key, _)| *key == there[at].0));
        if twice {
            return Err(None);
        }
        let mut changed = Vec::new();
        for (key, values) in there {
            changed.push(self.change_row(join, &key, &values, &[], &[])?);
        }
        self.set_linked(join, &changed)?;
        self.check(join, false, &changed)?;
        self.fix_linked(join, &mut new);
        let created: Vec<Row> = new.iter().map(|values| self.insert(join, values)).collect::<Result<_, _>>()?;
        self.check(join, true, &created)
    }

    fn delete(&mut self, of: TypeId, keys: &[Row]) -> Result<(), Refusal> {
        let gone: Vec<Row> =
            keys.iter().filter_map(|key| self.at(of, key)).map(|at| self.world.rows[of][at].clone()).collect();
        // MariaDB looks at each row as it goes; SQLite counts what dangles against what no longer does; only PostgreSQL looks
        // at what is left in the end.
        let t = &self.world.model.types[of];
        let refers_to_itself = t.links.iter().any(|link| link.target == of && link.cardinality == Cardinality::One);
        let everything: Vec<usize> = (0..t.columns.len()).collect();
        let is_odd = match self.world.databases[0].engine {
            Engine::Mariadb => refers_to_itself && !gone.is_empty(),
            Engine::Sqlite => gone.iter().any(|row| self.dangles(of, row, &everything)),
            Engine::Postgres | Engine::Mongodb => false,
        };
        if is_odd {
            return Err(None);
        }
        self.world.rows[of].retain(|row| !gone.contains(row));
        match gone.iter().any(|row| self.is_referred_to(of, row, None)) {
            true => refuse("REFERENCE_BROKEN"),
            false => Ok(()),
        }
    }

    fn check(&mut self, of: TypeId, created: bool, keys: &[Row]) -> Result<(), Refusal> {
        for key in keys {
            let check = Check { of, created, key: key.clone() };
            check.hold(self.world, self.view)?;
            self.checks.push(check);
        }
        Ok(())
    }
}
