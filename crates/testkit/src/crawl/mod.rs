//! A walk over everything that a service shows of a database, compared with plain SQL that is written here and shares nothing
//! with the service: every list, walk, order, key, link, filter, group and sum.
//!
//! It knows from the model which columns and links there are, and from nothing else what is in them.

mod plain;
mod values;

use std::collections::BTreeMap;
use std::fmt::Write as _;

use puente_core::model::{Cardinality, Column, ColumnId, FieldType, Link, Model, Type};
use puente_core::value::{Scalar, StorageFormat};
use serde_json::{Value as Json, json};

pub use self::plain::Session;
use self::values::{served, stored};
use crate::database::Database;
use crate::project::{TestProject, TestService};

/// Rows of one list that are compared one by one: where there are more, the first of them are.
const ROWS: usize = 200;
/// Rows of a table whose values are looked for.
const SAMPLES: usize = 6;
/// Rows of a page in a walk at least.
const PAGE: usize = 3;
/// What a crawl may cost: it asks for more at once than anybody should.
const LIMITS: &str =
    "[limits]\ncost = 1000000000\nstatements = 1000\npage = 1000\nanswer_bytes = 100000000\ntime_ms = 60000\n";

/// What a crawl found.
#[derive(Debug, Default)]
pub struct Report {
    /// How many lists, values and counts were compared.
    pub compared: u64,
    /// What the service answered otherwise than the database.
    pub differences: Vec<String>,
    /// What it would not answer because a value is none of its column's type: that is said, with the remedy, and is not an answer
    /// that could be compared.
    pub unfit: Vec<String>,
}

/// Everything that is served of a database.
#[derive(Debug)]
struct Crawl {
    plain: Session,
    service: TestService,
    model: std::sync::Arc<Model>,
    report: Report,
}

/// Surveys a database, serves it and compares everything. `lines` are more of its source in the project file, `edits` more of
/// the file.
///
/// # Panics
/// Where the database cannot be surveyed or asked.
pub fn crawl(database: &Database, lines: &str, edits: &str) -> Report {
    compare(database, database, lines, edits)
}

/// Compares what is served of one database with what is in another.
///
/// # Panics
/// As [`crawl`].
pub fn compare(served: &Database, plain: &Database, lines: &str, edits: &str) -> Report {
    let project = TestProject::of(served, lines, &format!("{LIMITS}{edits}"));
    let model = project.open().model().expect("a model");
    let mut crawl = Crawl { plain: Session::open(plain), service: project.serve(), model, report: Report::default() };
    let model = std::sync::Arc::clone(&crawl.model);
    for (_, of) in model.tables() {
        crawl.table(of);
    }
    crawl.report
}

/// Rows as they are told apart: by their key, or by all that is shown of them.
type Identities = Vec<Vec<String>>;

impl Crawl {
    fn table(&mut self, of: &Type) {
        let shown = shown(of);
        if shown.is_empty() {
            return;
        }
        self.rows(of, &shown);
        if let Some(identity) = identity(of) {
            self.walks(of, &identity);
            self.keys(of, &shown);
            for link in &of.links {
                self.link(of, &identity, link);
            }
        }
        for column in comparable(of) {
            self.filters(of, column);
            self.groups(of, column);
        }
    }

    /// The rows of a list, each value of each.
    fn rows(&mut self, of: &Type, shown: &[ColumnId]) {
        let counted = self.count(&format!("select count(*) from {}", self.plain.table(of)));
        let fields = fields(of, shown);
        let document = format!("{{ rows: {}(first: {ROWS}) {{ totalCount nodes {{ {fields} }} }} }}", of.list);
        let Some(answer) = self.ask(&document, &Json::Null) else { return };
        let list = &answer["rows"];
        self.same(&format!("how many {}", of.list), &counted.to_string(), &list["totalCount"].to_string());
        let order = self.plain.order(of, &of.row_key().map(|key| key.columns.clone()).unwrap_or_default(), "");
        let sql =
            format!("select {} from {}{order} limit {ROWS}", self.plain.texts(of, shown, ""), self.plain.table(of));
        let mut expected = self.stored_rows(of, shown, &sql);
        let mut found = self.served_rows(of, shown, &list["nodes"]);
        if of.row_key().is_none() {
            if counted > ROWS as u64 {
                return;
            }
            expected.sort();
            found.sort();
        }
        self.same_rows(&format!("the rows of {}", of.list), &expected, &found);
    }

    /// Page by page by every order, there and back.
    fn walks(&mut self, of: &Type, identity: &[ColumnId]) {
        let orders: Vec<Option<ColumnId>> = std::iter::once(None).chain(comparable(of).map(Some)).collect();
        for column in orders {
            for descending in [false, true] {
                if column.is_none() && descending {
                    continue;
                }
                let first: Vec<String> =
                    column.map(|column| self.plain.order_term(of, column, "", descending)).into_iter().collect();
                let others: Vec<ColumnId> = identity.iter().copied().filter(|other| Some(*other) != column).collect();
                let terms =
                    first.into_iter().chain(others.iter().map(|other| self.plain.order_term(of, *other, "", false)));
                let order = terms.collect::<Vec<_>>().join(", ");
                let sql = format!(
                    "select {} from {} order by {order} limit {ROWS}",
                    self.plain.texts(of, identity, ""),
                    self.plain.table(of)
                );
                let expected = self.stored_rows(of, identity, &sql);
                let direction = if descending { "DESC" } else { "ASC" };
                let order_by = column
                    .map_or_else(String::new, |column| format!("orderBy: [{{ {}: {direction} }}]", field(of, column)));
                let what = format!("{} by {order_by}", of.list);
                let found = self.walk(of, identity, &order_by, expected.len(), true);
                self.same_rows(&format!("the walk over {what}"), &expected, &found);
                if expected.len() < ROWS {
                    let mut back = self.walk(of, identity, &order_by, expected.len(), false);
                    back.reverse();
                    self.same_rows(&format!("the walk back over {what}"), &expected, &back);
                }
            }
        }
    }

    fn walk(&mut self, of: &Type, identity: &[ColumnId], order: &str, rows: usize, forward: bool) -> Identities {
        let (size, cursor, end, more) = if forward {
            ("first", "after", "endCursor", "hasNextPage")
        } else {
            ("last", "before", "startCursor", "hasPreviousPage")
        };
        let page = PAGE.max(rows / 4 + 1);
        let fields = fields(of, identity);
        let document = format!(
            "query($at: String) {{ rows: {}({size}: {page}, {cursor}: $at, {order}) {{ nodes {{ {fields} }} pageInfo {{ {end} {more} }} }} }}",
            of.list
        );
        let (mut at, mut walked) = (Json::Null, Vec::new());
        while walked.len() < ROWS {
            let Some(answer) = self.ask(&document, &json!({ "at": at })) else { break };
            let list = &answer["rows"];
            let mut rows = self.served_rows(of, identity, &list["nodes"]);
            if !forward {
                rows.reverse();
            }
            walked.append(&mut rows);
            if list["pageInfo"][more] != json!(true) {
                break;
            }
            at = list["pageInfo"][end].clone();
        }
        walked.truncate(ROWS);
        walked
    }

    /// Rows by each of their keys.
    fn keys(&mut self, of: &Type, shown: &[ColumnId]) {
        let fields = fields(of, shown);
        let all = format!("{{ rows: {}(first: {ROWS}) {{ nodes {{ {fields} }} }} }}", of.list);
        let Some(answer) = self.ask(&all, &Json::Null) else { return };
        let nodes = answer["rows"]["nodes"].as_array().cloned().unwrap_or_default();
        for key in of.keys.iter().filter(|key| key.columns.iter().all(|column| of.columns[*column].field.is_some())) {
            let key_type = format!("{}Key", of.helpers);
            for node in sampled(&nodes) {
                let value = |column: &ColumnId| node[field(of, *column)].clone();
                if key.columns.iter().any(|column| value(column).is_null()) {
                    continue;
                }
                let value = match key.columns.as_slice() {
                    [only] => value(only),
                    several => several
                        .iter()
                        .map(|column| (field(of, *column).to_owned(), value(column)))
                        .collect::<serde_json::Map<_, _>>()
                        .into(),
                };
                let document = format!("query($key: {key_type}!) {{ one: {}(key: $key) {{ {fields} }} }}", of.one);
                let variables = json!({ "key": { (key.member.as_str()): value } });
                let Some(answer) = self.ask(&document, &variables) else { continue };
                self.same(&format!("{} by {variables}", of.one), &node.to_string(), &answer["one"].to_string());
            }
        }
    }

    /// What a link leads to from each row.
    fn link(&mut self, of: &Type, identity: &[ColumnId], link: &Link) {
        let model = std::sync::Arc::clone(&self.model);
        let target = &model.types[link.target];
        let far = self::identity(target).unwrap_or_else(|| shown(target));
        let far_fields = fields(target, &far);
        let inner = match link.cardinality {
            Cardinality::One => format!("{{ {far_fields} }}"),
            Cardinality::Many => format!("(first: {ROWS}) {{ totalCount nodes {{ {far_fields} }} }}"),
        };
        let document = format!(
            "{{ rows: {}(first: {ROWS}) {{ nodes {{ {} link: {}{inner} }} }} }}",
            of.list,
            fields(of, identity),
            link.field
        );
        let Some(answer) = self.ask(&document, &Json::Null) else { return };
        let nodes = answer["rows"]["nodes"].as_array().cloned().unwrap_or_default();
        let near: Vec<String> =
            self.served_rows(of, identity, &answer["rows"]["nodes"]).iter().map(|row| row.join("\u{1}")).collect();
        let (mut found, mut totals) = (BTreeMap::new(), BTreeMap::new());
        let is_ordered = self::identity(target).is_some();
        for (near, node) in near.iter().zip(&nodes) {
            let many = match link.cardinality {
                Cardinality::One if node["link"].is_null() => json!([]),
                Cardinality::One => json!([node["link"]]),
                Cardinality::Many => node["link"]["nodes"].clone(),
            };
            let rows = self.served_rows(target, &far, &many);
            if link.cardinality == Cardinality::Many {
                totals.insert(near.clone(), node["link"]["totalCount"].to_string());
            }
            found.insert(near.clone(), rows.iter().map(|row| row.join("\u{1}")).collect::<Vec<_>>());
        }
        let some =
            format!("(select * from {}{} limit {ROWS})", self.plain.table(of), self.plain.order(of, identity, ""));
        let equal = |pairs: &[(ColumnId, ColumnId)], (a, t): (&str, &Type), (b, u): (&str, &Type)| -> Vec<String> {
            let column = |t: &Type, at: ColumnId| self.plain.quote(&t.columns[at].name);
            pairs.iter().map(|(x, y)| format!("{a}.{} = {b}.{}", column(t, *x), column(u, *y))).collect()
        };
        let texts = format!("{}, {}", self.plain.texts(of, identity, "a."), self.plain.texts(target, &far, "b."));
        let from = format!("{some} a, {} b", self.plain.table(target));
        let mut sql = match &link.through {
            None => format!(
                "select {texts} from {from} where {}",
                equal(&link.pairs, ("a", of), ("b", target)).join(" and ")
            ),
            Some(through) => {
                let join = &model.types[through.join];
                let ends =
                    [equal(&through.near, ("a", of), ("j", join)), equal(&through.far, ("j", join), ("b", target))];
                let (join, on) = (self.plain.table(join), ends.concat().join(" and "));
                match through.repeats {
                    true => format!("select {texts} from {from} where exists (select 1 from {join} j where {on})"),
                    false => format!("select {texts} from {from}, {join} j where {on}"),
                }
            }
        };
        if is_ordered {
            sql.push_str(&self.plain.order(target, &far, "b."));
        }
        let mut expected: BTreeMap<String, Vec<String>> = near.iter().map(|near| (near.clone(), Vec::new())).collect();
        for row in self.plain.query(&sql) {
            let (a, b) = row.split_at(identity.len());
            let text = |t: &Type, columns: &[ColumnId], values: &[Option<String>]| -> String {
                let texts =
                    columns.iter().zip(values).map(|(column, text)| self.text(&t.columns[*column], text.as_deref()));
                texts.collect::<Vec<_>>().join("\u{1}")
            };
            expected.entry(text(of, identity, a)).or_default().push(text(target, &far, b));
        }
        for (near, total) in totals {
            let counted = expected.get(&near).map_or(0, Vec::len).to_string();
            self.same(&format!("how many {}.{} of {near}", of.name, link.field), &counted, &total);
        }
        for rows in expected.values_mut().chain(found.values_mut()).filter(|rows| !is_ordered && rows.len() < ROWS) {
            rows.sort();
        }
        if is_ordered {
            expected.values_mut().for_each(|rows| rows.truncate(ROWS));
        }
        let told = |of: &BTreeMap<String, Vec<String>>| -> Identities {
            of.iter().map(|(near, far)| std::iter::once(near).chain(far).cloned().collect()).collect()
        };
        if is_ordered || expected.values().all(|rows| rows.len() < ROWS) {
            self.same_rows(&format!("the link {}.{}", of.name, link.field), &told(&expected), &told(&found));
        }
    }

    /// Values of a column, each looked for by each word that takes one.
    fn filters(&mut self, of: &Type, column: ColumnId) {
        let (c, name) = (&of.columns[column], field(of, column));
        let Some(identity) = identity(of) else { return };
        let table = self.plain.table(of);
        let mut asked = vec![
            ("isNull: true".to_owned(), Json::Null, self.plain.is_null(of, column, true)),
            ("isNull: false".to_owned(), Json::Null, self.plain.is_null(of, column, false)),
        ];
        let scalar = match c.kind {
            FieldType::Scalar(scalar) => scalar,
            FieldType::Enum(_) => Scalar::String,
            FieldType::List(_) | FieldType::Object(_) | FieldType::Items(_) => return,
        };
        let document = format!("{{ rows: {}(first: {ROWS}) {{ nodes {{ {name} }} }} }}", of.list);
        let Some(answer) = self.ask(&document, &Json::Null) else { return };
        let nodes = answer["rows"]["nodes"].as_array().cloned().unwrap_or_default();
        let order = self.plain.order(of, &identity, "");
        for at in sampled(&(0..nodes.len()).collect::<Vec<_>>()) {
            let value = nodes[*at][name].clone();
            if value.is_null() {
                continue;
            }
            let plain = self.plain.quote(&c.name);
            let sample = format!("(select {plain} from {table}{order} limit 1 offset {at})");
            let words = [("eq", "="), ("ne", "<>"), ("lt", "<"), ("lte", "<="), ("gt", ">"), ("gte", ">=")];
            for (word, sign) in
                words.into_iter().filter(|(_, sign)| scalar != Scalar::Boolean || sign.contains('=') || *sign == "<>")
            {
                if matches!(c.kind, FieldType::Enum(_)) && !matches!(word, "eq" | "ne")
                    || scalar == Scalar::Boolean && word.len() == 3
                {
                    continue;
                }
                asked.push((format!("{word}: $v{}", asked.len()), value.clone(), format!("{plain} {sign} {sample}")));
            }
            asked.push((format!("in: [$v{}]", asked.len()), value.clone(), format!("{plain} = {sample}")));
            if let (Scalar::String, FieldType::Scalar(_), Some(text)) = (scalar, c.kind, value.as_str()) {
                let letters: Vec<char> = text.chars().collect();
                let part: String =
                    letters[letters.len() / 3..(letters.len() / 3 + 3).min(letters.len())].iter().collect();
                for word in ["contains", "startsWith", "endsWith"] {
                    let Some(condition) = self.plain.part(of, column, word, &part) else { continue };
                    asked.push((format!("{word}: $v{}", asked.len()), json!(part), condition));
                }
            }
        }
        let kind = self.model.kind_name(c.kind).to_owned();
        let variables: serde_json::Map<String, Json> = asked
            .iter()
            .enumerate()
            .filter(|(_, asked)| !asked.1.is_null())
            .map(|(at, asked)| (format!("v{at}"), asked.1.clone()))
            .collect();
        let declared = variables.keys().map(|name| format!("${name}: {kind}!")).collect::<Vec<_>>().join(", ");
        let declared = if declared.is_empty() { String::new() } else { format!("query({declared})") };
        let mut document = format!("{declared} {{");
        for (at, (word, _, _)) in asked.iter().enumerate() {
            let _ = write!(document, " c{at}: {}(filter: {{ {name}: {{ {word} }} }}) {{ totalCount }}", of.list);
        }
        let Some(answer) = self.ask(&format!("{document} }}"), &Json::Object(variables)) else { return };
        for (at, (word, value, condition)) in asked.iter().enumerate() {
            let counted = self.count(&format!("select count(*) from {table} where {condition}"));
            let what = format!("{} with {name} {word} {value}", of.list);
            self.same(&what, &counted.to_string(), &answer[format!("c{at}")]["totalCount"].to_string());
        }
    }

    /// Groups by the values of a column, and what the whole column is summed up to.
    fn groups(&mut self, of: &Type, column: ColumnId) {
        let (c, name) = (&of.columns[column], of.summary_field(field(of, column)));
        if matches!(c.kind, FieldType::List(_)) {
            return;
        }
        let numbers = matches!(c.kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Decimal));
        let summed = format!("summary {{ {name} {{ min max {} }} }}", if numbers { "sum" } else { "" });
        let document = format!(
            "{{ rows: {}(first: 1) {{ {} groups(by: [{{ {name}: VALUE }}], first: 1000) {{ key {{ {name} }} summary {{ count }} }} }} }}",
            of.list,
            if numbers { summed.as_str() } else { "" }
        );
        let Some(answer) = self.ask(&document, &Json::Null) else { return };
        let (table, plain, text) =
            (self.plain.table(of), self.plain.quote(&c.name), self.plain.texts(of, &[column], ""));
        let sql = format!(
            "select {text}, rows_of_group from (select {plain}, count(*) as rows_of_group from {table} group by {plain}) g"
        );
        let groups = self.plain.query(&sql);
        if groups.len() < 1_000 {
            let mut expected: Identities = groups
                .iter()
                .map(|row| vec![self.text(c, row[0].as_deref()), row[1].clone().unwrap_or_default()])
                .collect();
            let nodes = answer["rows"]["groups"].as_array().cloned().unwrap_or_default();
            let mut found: Identities = nodes
                .iter()
                .map(|node| vec![served(&self.model, c, &node["key"][&*name]), node["summary"]["count"].to_string()])
                .collect();
            // Which of the texts that a collation takes for one stands for all is anybody's choice.
            if self.plain.folds(c) {
                for group in expected.iter_mut().chain(&mut found) {
                    group[0] = group[0].to_lowercase();
                }
            }
            expected.sort();
            found.sort();
            self.same_rows(&format!("the groups of {} by {name}", of.list), &expected, &found);
        }
        if numbers {
            let mut row = self.plain.query(&format!("select min({plain}), max({plain}) from {table}")).remove(0);
            row.push(self.sum(of, column));
            for (word, expected) in ["min", "max", "sum"].into_iter().zip(row) {
                let decimal =
                    Column { kind: FieldType::Scalar(Scalar::Decimal), form: StorageFormat::Usual, ..c.clone() };
                let expected = stored(&self.model, self.plain.engine, &decimal, expected.as_deref());
                let found = served(&self.model, &decimal, &answer["rows"]["summary"][&*name][word]);
                self.same(&format!("{word} of {}.{name}", of.list), &expected, &found);
            }
        }
    }

    /// What a column's numbers add up to, digit by digit: not every engine's own sum is exact, or can hold it.
    fn sum(&mut self, of: &Type, column: ColumnId) -> Option<String> {
        let (table, plain) = (self.plain.table(of), self.plain.quote(&of.columns[column].name));
        let rows = self.plain.query(&format!("select {plain} from {table} where {plain} is not null"));
        let numbers: Vec<String> = rows.into_iter().flatten().flatten().collect();
        let fraction = |number: &String| number.split_once('.').map_or(0, |(_, digits)| digits.len());
        let longest = numbers.iter().map(fraction).max()?;
        let units = |number: &String| {
            let zeros = "0".repeat(longest - fraction(number));
            format!("{}{zeros}", number.replace('.', "")).parse::<i128>().expect("a number in plain digits")
        };
        let sum: i128 = numbers.iter().map(units).sum();
        let digits = format!("{:0>width$}", sum.unsigned_abs(), width = longest + 1);
        let (whole, fraction) = digits.split_at(digits.len() - longest);
        Some(format!("{}{whole}.{fraction}", if sum < 0 { "-" } else { "" }))
    }

    /// An answer's data; a difference where there is an error.
    fn ask(&mut self, document: &str, variables: &Json) -> Option<Json> {
        let mut body = json!({ "query": document });
        if !variables.is_null() {
            body["variables"] = variables.clone();
        }
        let answer = self.service.post(&body).json();
        self.report.compared += 1;
        if answer["errors"].is_null() {
            return Some(answer["data"].clone());
        }
        let error = &answer["errors"][0];
        if error["extensions"]["code"] == "VALUE_UNFIT" {
            self.report.unfit.push(error["message"].to_string());
        } else {
            self.report.differences.push(format!("{document} {variables}: {error}"));
        }
        None
    }

    fn count(&mut self, sql: &str) -> u64 {
        self.plain.query(sql)[0][0].as_deref().unwrap_or_default().parse().expect("a number")
    }

    fn text(&self, column: &Column, text: Option<&str>) -> String {
        stored(&self.model, self.plain.engine, column, text)
    }

    fn stored_rows(&mut self, of: &Type, columns: &[ColumnId], sql: &str) -> Identities {
        let rows = self.plain.query(sql);
        let cells = |row: &Vec<Option<String>>| {
            columns.iter().zip(row).map(|(column, text)| self.text(&of.columns[*column], text.as_deref())).collect()
        };
        rows.iter().map(cells).collect()
    }

    fn served_rows(&self, of: &Type, columns: &[ColumnId], nodes: &Json) -> Identities {
        let cells = |node: &Json| {
            columns.iter().map(|column| served(&self.model, &of.columns[*column], &node[field(of, *column)])).collect()
        };
        nodes.as_array().map(|nodes| nodes.iter().map(cells).collect()).unwrap_or_default()
    }

    fn same(&mut self, what: &str, expected: &str, found: &str) {
        self.report.compared += 1;
        if expected != found {
            self.report.differences.push(format!("{what}: {expected} in the database, {found} in the answer"));
        }
    }

    fn same_rows(&mut self, what: &str, expected: &Identities, found: &Identities) {
        self.report.compared += 1;
        if expected != found {
            let at = expected.iter().zip(found).position(|(a, b)| a != b).unwrap_or(expected.len().min(found.len()));
            let text = format!(
                "{what}: {} rows in the database, {} in the answer; the first that differs, {at}: {:?} and {:?}",
                expected.len(),
                found.len(),
                expected.get(at),
                found.get(at)
            );
            self.report.differences.push(text);
        }
    }
}

fn shown(of: &Type) -> Vec<ColumnId> {
    // What JSON has inside is looked at by the oracle.
    let is_plain = |column: &Column| column.field.is_some() && column.form != StorageFormat::JsonValue;
    (0..of.columns.len()).filter(|column| is_plain(&of.columns[*column])).collect()
}

fn comparable(of: &Type) -> impl Iterator<Item = ColumnId> {
    shown(of).into_iter().filter(|column| of.columns[*column].is_comparable())
}

/// The columns of the key by which rows are told apart, where there is one and it is shown.
fn identity(of: &Type) -> Option<Vec<ColumnId>> {
    let key = of.row_key()?.columns.clone();
    key.iter().all(|column| of.columns[*column].field.is_some()).then_some(key)
}

fn field(of: &Type, column: ColumnId) -> &str {
    of.columns[column].field.as_deref().expect("a column that is shown")
}

fn fields(of: &Type, columns: &[ColumnId]) -> String {
    columns.iter().map(|column| field(of, *column)).collect::<Vec<_>>().join(" ")
}

/// Some of many, from the beginning to the end.
fn sampled<T>(of: &[T]) -> impl Iterator<Item = &T> {
    of.iter().step_by(of.len().div_ceil(SAMPLES).max(1))
}
