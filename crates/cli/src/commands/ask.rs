//! `puente ask`

use std::io::{IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use puente_core::access::OWNER;
use puente_service::{Arrival, Ask as Request, Principal, claims_of};
use serde_json::{Map, Value as Json, json};

use crate::exit::Failure;
use crate::output::{self, faint, heading, urgent};

/// Run one GraphQL operation, in process or against a running service.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente ask '{ huts(first: 3) { nodes { name } } }'
  puente ask --file huts.graphql --var first=3 --table --statements
  puente ask --as hiker --claim sub=7 '{ bookings { totalCount } }'
  puente ask --url http://localhost:4810 '{ __typename }'   # the key is read from PUENTE_OWNER_KEY")]
pub(crate) struct Ask {
    /// The document; `-`, or nothing where something is piped in, reads standard input.
    document: Option<String>,
    /// Read the document from a file.
    #[arg(long, value_name = "FILE", conflicts_with = "document")]
    file: Option<PathBuf>,
    /// The operation to run, where the document has several.
    #[arg(long, value_name = "NAME")]
    operation: Option<String>,
    /// All variables, as a JSON object.
    #[arg(long, value_name = "JSON")]
    variables: Option<String>,
    /// One variable; the value is JSON where it is that (`groups=["a","b"]`, `sub="Customer 5"`), else text (`sub=7`, `name=Ann`).
    #[arg(long = "var", value_name = "NAME=VALUE")]
    vars: Vec<String>,
    /// Ask a running service instead of the project.
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// Print the answer's lists as tables.
    #[arg(long, conflicts_with = "json")]
    table: bool,
    /// Print the answer as one line of JSON; otherwise it is indented.
    #[arg(long)]
    json: bool,
    /// Show what was sent to the database, and how long it took.
    #[arg(long)]
    statements: bool,
    /// With the statements, show how the database runs each, and which scans an index would avoid.
    #[arg(long, requires = "statements")]
    explain: bool,
    /// Show the plan: what is read or changed, under which conditions, whatever the database.
    #[arg(long)]
    plan: bool,
    /// Ask as this role instead of as the owner.
    #[arg(long = "as", value_name = "ROLE")]
    role: Option<String>,
    /// A claim to ask with; the value is JSON where it is that (`groups=["a","b"]`, `sub="Customer 5"`), else text (`sub=7`, `name=Ann`).
    #[arg(long = "claim", value_name = "NAME=VALUE", requires = "role")]
    claims: Vec<String>,
    /// Run a mutation for real, show what would come back, and roll everything back.
    #[arg(long)]
    rehearse: bool,
}

impl Ask {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let request = Request {
            document: self.document()?,
            operation_name: self.operation.clone(),
            variables: self.variables()?,
            statements: self.statements,
            explain: self.explain,
            plan: self.plan,
            rehearse: self.rehearse,
            ..Request::default()
        };
        let claims = claims_of(&self.claims).map_err(Failure::wrong)?;
        let role = self.role.as_deref();
        let body = match &self.url {
            Some(url) => {
                // A role alone may also be chosen by whoever has a token that lists it.
                let alone = claims.is_empty();
                let wanted =
                    role.map(|role| if alone { json!(role) } else { json!({ "role": role, "claims": claims }) });
                ask_service(url, &request, wanted)?
            }
            None => ask_project(project, request, role, claims)?,
        };
        let answer: Json = serde_json::from_slice(&body)
            .map_err(|error| Failure::wrong(format!("the answer is not JSON: {error}; is this address Puente's?")))?;
        self.print(&answer)
    }

    fn document(&self) -> Result<String, Failure> {
        if let Some(file) = &self.file {
            return std::fs::read_to_string(file)
                .map_err(|error| Failure::wrong(format!("{} cannot be read: {error}", file.display())));
        }
        match self.document.as_deref() {
            Some(document) if document != "-" => Ok(document.to_owned()),
            None if std::io::stdin().is_terminal() => {
                Err(Failure::wrong("what to ask? Give a document, `--file FILE`, or pipe one in"))
            }
            _ => {
                let mut text = String::new();
                let read = std::io::stdin().read_to_string(&mut text);
                read.map(|_| text).map_err(|error| Failure::wrong(format!("standard input cannot be read: {error}")))
            }
        }
    }

    fn variables(&self) -> Result<Map<String, Json>, Failure> {
        let mut variables: Map<String, Json> = match &self.variables {
            None => Map::new(),
            Some(text) => serde_json::from_str(text)
                .map_err(|error| Failure::wrong(format!("`--variables` expects a JSON object: {error}")))?,
        };
        for var in &self.vars {
            let Some((name, value)) = var.split_once('=') else {
                return Err(Failure::wrong(format!("`--var` expects NAME=VALUE, found `{var}`")));
            };
            let value = serde_json::from_str(value).unwrap_or_else(|_| Json::from(value));
            variables.insert(name.to_owned(), value);
        }
        Ok(variables)
    }

    fn print(&self, answer: &Json) -> Result<(), Failure> {
        let mut shown = answer.clone();
        if let Json::Object(members) = &mut shown {
            members.shift_remove("extensions");
        }
        if self.json {
            output::say_json(answer);
        } else if self.table && answer.get("data").is_some_and(|data| !data.is_null()) {
            output::say(tables(&answer["data"]));
        } else {
            output::say_pretty(&shown);
        }
        if self.rehearse && !self.json {
            output::say(faint("rehearsed: everything was rolled back"));
        }
        if let Some(plan) = answer["extensions"]["plan"].as_str().filter(|_| !self.json) {
            output::say(heading("\nplan"));
            plan.lines().for_each(|line| output::say(format!("  {}", output::foreign(line))));
        }
        if self.statements && !self.json {
            print_statements(&answer["extensions"]);
        }
        let Some(errors) = answer.get("errors").and_then(Json::as_array) else { return Ok(()) };
        for error in errors.iter().filter(|_| !self.json) {
            output::complain(&output::foreign(&describe(error)));
        }
        let code = errors.first().map_or("", |error| error["extensions"]["code"].as_str().unwrap_or_default());
        Err(Failure { code: if code.starts_with("SOURCE_UNAVAILABLE") { 3 } else { 1 }, text: String::new() })
    }
}

fn ask_project(
    project: &Path,
    request: Request,
    role: Option<&str>,
    claims: Map<String, Json>,
) -> Result<Vec<u8>, Failure> {
    let folder = super::open(project)?;
    let role = role.unwrap_or(OWNER);
    super::check_role(&folder, role)?;
    // Cursors last as long as the secret: a folder that may not be written to gets one for this request alone.
    let secret = folder.secret(true).unwrap_or_else(|_| std::process::id().to_string().into_bytes());
    let api = super::open_api(&folder, secret)?;
    let principal = Principal::at_command_line(role, claims);
    super::block_on(async { api.ask(request, &principal, Arrival::now("cli")).await.body })
}

fn ask_service(url: &str, request: &Request, asking_as: Option<Json>) -> Result<Vec<u8>, Failure> {
    let flags = [
        ("statements", request.statements),
        ("explain", request.explain),
        ("plan", request.plan),
        ("rehearse", request.rehearse),
    ];
    let mut extensions: Map<String, Json> =
        flags.into_iter().filter(|(_, set)| *set).map(|(name, _)| (name.to_owned(), Json::Bool(true))).collect();
    extensions.extend(asking_as.map(|role| ("as".to_owned(), role)));
    let body = json!({
        "query": request.document,
        "operationName": request.operation_name,
        "variables": request.variables,
        "extensions": extensions,
    });
    crate::remote::answer(url, "/graphql", Some(&body)).map(|(_, body)| body)
}

fn describe(error: &Json) -> String {
    let code = error["extensions"]["code"].as_str().unwrap_or("ERROR");
    let message = error["message"].as_str().unwrap_or_default();
    let place = error["locations"][0]["line"].as_u64().zip(error["locations"][0]["column"].as_u64());
    let place = place.map_or_else(String::new, |(line, column)| format!(" (line {line}, column {column})"));
    format!("{code}: {message}{place}")
}

/// Every root field of the answer: a list as a table, anything else as JSON.
fn tables(data: &Json) -> String {
    let Some(members) = data.as_object() else { return data.to_string() };
    let mut parts = Vec::new();
    for (key, value) in members {
        parts.push(heading(&output::foreign(key)));
        parts.push(match rows_of(value) {
            Some(rows) => {
                let beside: Vec<String> = value
                    .as_object()
                    .into_iter()
                    .flatten()
                    .filter(|(name, list)| !LISTS.contains(&name.as_str()) || !std::ptr::eq(*list, list_of(value)))
                    .map(|(name, value)| format!("{}: {}", output::foreign(name), cell(value)))
                    .collect();
                let table = table_of(&rows);
                if beside.is_empty() { table } else { format!("{table}\n{}", faint(&beside.join("  "))) }
            }
            None if value.is_object() => table_of(&[value]),
            None => cell(value),
        });
    }
    parts.join("\n")
}

/// The members of a connection that hold rows.
const LISTS: [&str; 3] = ["nodes", "edges", "groups"];

/// The list of a connection, or the value itself.
fn list_of(value: &Json) -> &Json {
    LISTS.iter().find_map(|name| value.get(name)).unwrap_or(value)
}

/// The rows of a connection, or of a list.
fn rows_of(value: &Json) -> Option<Vec<&Json>> {
    let list = list_of(value);
    list.as_array().map(|rows| rows.iter().collect())
}

fn table_of(rows: &[&Json]) -> String {
    if rows.is_empty() {
        return faint("no rows");
    }
    let mut head: Vec<&str> = Vec::new();
    for row in rows.iter().filter_map(|row| row.as_object()) {
        for name in row.keys() {
            if !head.contains(&name.as_str()) {
                head.push(name);
            }
        }
    }
    if head.is_empty() {
        return rows.iter().map(|row| cell(row)).collect::<Vec<_>>().join("\n");
    }
    let body = rows.iter().map(|row| head.iter().map(|name| row.get(name).map_or_else(String::new, cell)).collect());
    output::table(&head, body)
}

/// One value in a table: objects as `name: value`, lists one item a line.
fn cell(value: &Json) -> String {
    if let Some(rows) = rows_of(value) {
        return rows.iter().map(|row| cell(row)).collect::<Vec<_>>().join("\n");
    }
    match value {
        Json::Null => "–".to_owned(),
        Json::String(text) => output::foreign(text),
        Json::Object(members) => match members.iter().collect::<Vec<_>>().as_slice() {
            [(_, only)] => cell(only),
            _ => named(members),
        },
        other => other.to_string(),
    }
}

fn named(members: &serde_json::Map<String, Json>) -> String {
    members
        .iter()
        .map(|(name, value)| format!("{}: {}", output::foreign(name), inner(value)))
        .collect::<Vec<_>>()
        .join(", ")
}

/// A value beside others in a cell: what has several parts of its own is put in brackets.
fn inner(value: &Json) -> String {
    if let Some(rows) = rows_of(value) {
        return format!("[{}]", rows.iter().map(|row| inner(row)).collect::<Vec<_>>().join(", "));
    }
    match value {
        Json::Object(members) if members.len() > 1 => format!("{{{}}}", named(members)),
        other => cell(other),
    }
}

fn print_statements(extensions: &Json) {
    let statements = extensions["statements"].as_array().map_or(&[][..], Vec::as_slice);
    output::say(heading(&format!("\n{} statements, {}", statements.len(), time(&extensions["microseconds"]))));
    for statement in statements {
        let source =
            statement["source"].as_str().map_or_else(String::new, |source| format!("{}: ", output::foreign(source)));
        output::say(faint(&format!(
            "{source}{}× {} rows {}",
            statement["executions"],
            statement["rows"],
            time(&statement["microseconds"])
        )));
        output::say(format!("  {}", output::foreign(statement["text"].as_str().unwrap_or_default())));
        for step in statement["plan"].as_array().into_iter().flatten() {
            output::say(faint(&format!("    {}", output::foreign(step.as_str().unwrap_or_default()))));
        }
        for advice in statement["advice"].as_array().into_iter().flatten() {
            output::say(format!("    {} {}", urgent("→"), output::foreign(advice.as_str().unwrap_or_default())));
        }
    }
}

fn time(microseconds: &Json) -> String {
    let micros = Duration::from_micros(microseconds.as_u64().unwrap_or_default());
    format!("{:.2} ms", micros.as_secs_f64() * 1_000.0)
}
