//! The project file as JSON Schema (draft 2020-12), for editors that complete and check it while it is written.

use serde_json::{Map, Value as Json, json};

use super::limits::Limits;
use super::{ALGORITHMS, Action};
use crate::value::Scalar;

/// The schema.
pub fn json_schema() -> Json {
    let mut schema = object(&[
        ("include", texts("Other files of the folder that belong to this one, `*` standing for any text.")),
        ("source", named("The databases, by the names that they have here.", source())),
        ("service", service()),
        ("identity", identity()),
        ("key", named("Access keys that every instance knows, by their names.", key())),
        ("limits", limits("What one request may cost.")),
        ("role", named("Roles and their grants, by the roles' names.", role())),
        ("type", list("What differs from the survey for a table.", type_())),
        ("link", list("Links that no foreign key declares.", link())),
    ]);
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = "puente.toml".into();
    schema
}

/// An object with these members and no others.
fn object(members: &[(&str, Json)]) -> Json {
    let properties: Map<String, Json> =
        members.iter().map(|(name, schema)| ((*name).to_owned(), schema.clone())).collect();
    json!({ "type": "object", "properties": properties, "additionalProperties": false })
}

fn told(text: &str, mut schema: Json) -> Json {
    schema["description"] = text.into();
    schema
}

fn needs(mut schema: Json, members: &[&str]) -> Json {
    schema["required"] = json!(members);
    schema
}

/// An object whose members all look the same.
fn named(text: &str, each: Json) -> Json {
    json!({ "description": text, "type": "object", "additionalProperties": each })
}

fn list(text: &str, each: Json) -> Json {
    json!({ "description": text, "type": "array", "items": each })
}

fn text(text: &str) -> Json {
    json!({ "description": text, "type": "string" })
}

fn texts(text: &str) -> Json {
    list(text, json!({ "type": "string" }))
}

fn flag(text: &str) -> Json {
    json!({ "description": text, "type": "boolean" })
}

fn number(text: &str, least: u64, most: u64) -> Json {
    json!({ "description": text, "type": "integer", "minimum": least, "maximum": most })
}

fn one_of(text: &str, words: &[&str]) -> Json {
    json!({ "description": text, "enum": words })
}

/// A name that GraphQL allows.
fn name(text: &str) -> Json {
    json!({ "description": text, "type": "string", "pattern": "^(?!__)[A-Za-z_][A-Za-z0-9_]*$" })
}

fn source() -> Json {
    let replica = needs(
        object(&[
            ("url", text("The copy's address.")),
            ("roles", texts("The roles whose requests it answers; left out, every role's.")),
        ]),
        &["url"],
    );
    let members = object(&[
        ("url", text("The address, such as `sqlite:data/huts.db` or `${DATABASE_URL}`.")),
        ("connections", number("Connections that read at the same time.", 1, 256)),
        ("wait_ms", number("Milliseconds that a request waits for a connection.", 1, 600_000)),
        ("schemas", texts("The schemas that are surveyed (PostgreSQL).")),
        ("leave_out", texts("Tables that are not surveyed, `*` standing for any text.")),
        ("root_certificate", text("A file with the certificates that are trusted, in PEM.")),
        ("prepared", flag("Are statements prepared once per connection (PostgreSQL)?")),
        ("replicas", list("Copies for requests that only read.", replica)),
        ("samples", number("Values of a JSON column, or documents, that the survey looks at.", 1, 1_000_000)),
        (
            "keep_first_word",
            flag("Are types called by the first word of their tables, too, where every table begins with the same?"),
        ),
        ("without_transactions", flag("May several documents change in one request without transactions (MongoDB)?")),
    ]);
    needs(members, &["url"])
}

fn service() -> Json {
    told(
        "How the service is reached, and what it offers.",
        object(&[
            ("secret", text("Seals cursors and revisions: `${PUENTE_SECRET}`, the same on every replica.")),
            ("hosts", texts("Host names under which it is reached.")),
            ("origins", texts("Origins of other web sites that may call it (CORS).")),
            ("persisted", flag("Are documents remembered by their SHA-256 hash?")),
            (
                "tls",
                needs(
                    object(&[
                        ("certificate", text("The file of the certificate, in PEM.")),
                        ("key", text("The file of its private key, in PEM.")),
                    ]),
                    &["certificate", "key"],
                ),
            ),
            (
                "drain_seconds",
                number("Seconds for which it serves on after it was told to stop, not ready any more.", 0, 3_600),
            ),
            ("traces", text("The address of a collector of spans (OTLP over HTTP), such as `http://localhost:4318`.")),
            ("metrics_listen", text("Where counters and health are read without keys, such as `127.0.0.1:9464`.")),
            ("global_ids", flag("Has every row that has a key an `id` of its own in the whole API?")),
        ]),
    )
}

fn identity() -> Json {
    let path = |text: &str| json!({ "description": text, "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }] });
    let tokens = object(&[
        ("issuer", text("The `iss` of tokens.")),
        ("audience", text("The `aud` of tokens.")),
        ("algorithm", one_of("The one algorithm of `key`.", ALGORITHMS)),
        ("key", text("A secret, or a public key in PEM.")),
        ("key_set", text("A set of keys: a file of the folder, or an https address.")),
        ("leeway_seconds", number("Seconds by which clocks may differ.", 0, 600)),
        ("roles", path("The claim that holds the roles: its name, or the names that lead to it.")),
        ("main_role", path("The claim that holds the role that asks where none is chosen.")),
        ("fallback_role", text("The role of a token that names none that is here.")),
        ("owner", flag("May a token name `owner` among its roles?")),
    ]);
    told(
        "How it is known who asks.",
        object(&[
            ("anonymous", text("The role of whoever says nothing; left out, they are refused.")),
            ("tokens", told("JSON Web Tokens that are believed.", needs(tokens, &["issuer", "audience"]))),
        ]),
    )
}

fn key() -> Json {
    let members = object(&[
        (
            "hash",
            json!({ "description": "As `puente key create NAME --print` prints it.", "type": "string", "pattern": "^sha256:[0-9a-fA-F]{64}$" }),
        ),
        ("role", text("The role that it asks as.")),
        ("claims", named("The claims that it asks with.", json!({}))),
        ("ends", told("When it ends: a day, or a time with its zone.", json!({ "type": ["string", "object"] }))),
        ("metrics", flag("Is it for counters alone?")),
    ]);
    needs(members, &["hash"])
}

fn limits(text: &str) -> Json {
    let members = Limits::bounds().into_iter().map(|(name, default, least, most)| {
        let mut schema = number("", least, most);
        schema["description"] = format!("Default {default}.").into();
        (name, schema)
    });
    told(text, object(&members.collect::<Vec<_>>()))
}

fn role() -> Json {
    let fields = json!({
        "description": "The fields it is about; \"all\" for whatever there is and will be.",
        "anyOf": [{ "const": "all" }, { "type": "array", "items": { "type": "string" } }],
    });
    let fixed = named("Fields that are set whatever the caller says, each by a rule.", json!({ "type": "string" }));
    let grant = |action: Action| match action {
        Action::Read => needs(
            object(&[
                ("fields", fields.clone()),
                ("rows", text("Which rows, as a rule in CEL.")),
                ("masks", named("Fields that show a value only where a rule is true.", json!({ "type": "string" }))),
                ("max_page", number("The most rows of one page.", 1, 100_000)),
                ("count", flag("May rows be counted and summed up?")),
            ]),
            &["fields"],
        ),
        Action::Create => needs(
            object(&[
                ("fields", fields.clone()),
                ("check", text("What must be true of a new row, as a rule in CEL.")),
                ("fixed", fixed.clone()),
            ]),
            &["fields"],
        ),
        Action::Update => needs(
            object(&[
                ("fields", fields.clone()),
                ("rows", text("Which rows, as a rule in CEL.")),
                ("check", text("What must be true of a row as it is after the change, as a rule in CEL.")),
                ("fixed", fixed.clone()),
            ]),
            &["fields"],
        ),
        Action::Delete => object(&[
            ("rows", text("Which rows, as a rule in CEL.")),
            ("cascade", flag("May it delete what takes rows of other types along?")),
        ]),
    };
    let actions = object(&Action::ALL.map(|action| (action.word(), grant(action))));
    let mut role = object(&[
        ("description", text("What the role is for.")),
        ("include", texts("Roles whose grants it takes over.")),
        ("limits", limits("Limits that are tighter than the project's.")),
    ]);
    role["additionalProperties"] = told("What the role may do with a type.", actions);
    role
}

fn type_() -> Json {
    let scalars: Vec<&str> = Scalar::ALL.iter().map(|scalar| scalar.name()).collect();
    let (description, deprecated) = (text("The description."), text("Why clients should use something else."));
    let scalar = one_of("Another scalar than the survey's.", &scalars);
    let member = object(&[
        ("name", name("The field's name.")),
        ("hidden", flag("Is the member left out?")),
        ("description", description.clone()),
        ("deprecated", deprecated.clone()),
        ("scalar", scalar.clone()),
        ("list", flag("Is it a list of values, whatever the survey found?")),
        ("shape", flag("Is each of its members a field, though it looks like a map?")),
        ("required", flag("Is it always there?")),
    ]);
    let field = object(&[
        ("name", name("The field's name.")),
        ("hidden", flag("Is the column left out?")),
        ("description", description.clone()),
        ("deprecated", deprecated.clone()),
        ("scalar", scalar),
        ("shape", flag("Does its JSON get types, by the shape that the survey found?")),
        ("members", named("What differs from the shape, by the names that lead there with `/` between.", member)),
    ]);
    let link = object(&[
        ("name", name("The field's name.")),
        ("hidden", flag("Is this way left out?")),
        ("description", description.clone()),
        ("deprecated", deprecated.clone()),
    ]);
    let members = object(&[
        ("table", text("The table or view, as the survey calls it.")),
        ("name", name("The object type's name.")),
        ("one", name("The root field that finds one.")),
        ("list", name("The root field that lists many.")),
        ("hidden", flag("Is the table left out?")),
        ("description", description),
        ("deprecated", deprecated),
        ("nullable", texts("Columns shown as nullable although the engine enforces a value.")),
        ("key", texts("Columns that tell rows apart where the database promises no key.")),
        ("version", text("The column that changes with every change of a row.")),
        ("fields", named("What differs for single columns.", field)),
        ("links", named("What differs for single links: `hut_id`, or `bookings.hut_id` for the way back.", link)),
    ]);
    needs(members, &["table"])
}

fn link() -> Json {
    let members = object(&[
        ("table", text("The referencing table; `source:table` where there are several sources.")),
        ("columns", texts("The referencing columns.")),
        ("through", text("The table between, for a direct link over it.")),
        ("to", text("The referenced table.")),
        ("references", texts("The referenced columns.")),
        ("name", name("The link's name.")),
        ("back", name("The name of the link back.")),
    ]);
    needs(members, &["table", "to"])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::project::read;

    /// Every object of the schema that has no other members than its own: how a file says it, and what they are.
    fn objects(schema: &Json, path: &str, found: &mut Vec<(String, Vec<String>)>) {
        let properties = schema["properties"].as_object();
        if let Some(properties) = properties {
            found.push((path.to_owned(), properties.keys().cloned().collect()));
        }
        let below = |name: &str| if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
        for (name, inner) in properties.into_iter().flatten() {
            match inner["type"].as_str() {
                Some("array") => objects(&inner["items"], &format!("[[{}", below(name)), found),
                _ => objects(inner, &below(name), found),
            }
        }
        if schema["additionalProperties"].is_object() {
            objects(&schema["additionalProperties"], &below("Given"), found);
        }
    }

    /// What the reader says that a section takes, told of a key that none takes.
    fn taken(path: &str) -> Vec<String> {
        let inner = path.replace("[[", "");
        let head = match path {
            "" => String::new(),
            _ if path == "[[type" || path == "[[link" => format!("{path}]]"),
            // What is inside a list of tables belongs to its last one.
            _ if path.starts_with("[[type.") => format!("[[type]]\ntable = \"t\"\n[{inner}]"),
            // A list inside a table.
            _ if path.contains("[[") => format!("[[{inner}]]"),
            _ => format!("[{inner}]"),
        };
        let head = head
            .replace("source.Given", "source.given")
            .replace("role.Given", "role.given")
            .replace("key.Given", "key.given");
        let text = format!("{head}\nzzz = {}\n", if path == "role.Given" { "1" } else { "{}" });
        let mistakes = read(&text, &|_| None).unwrap_err();
        let told = mistakes
            .iter()
            .find_map(|mistake| mistake.text.split_once(" takes ").filter(|_| mistake.text.contains("`zzz`")));
        let (_, known) = told.unwrap_or_else(|| panic!("{path}: {mistakes:#?}\n{text}"));
        known.split(", ").map(str::to_owned).collect()
    }

    #[test]
    fn it_has_what_the_reader_takes_and_nothing_else() {
        let mut found = Vec::new();
        objects(&json_schema(), "", &mut found);
        assert!(found.len() > 15, "{found:#?}");
        for (path, mut properties) in found {
            if path == "role.Given" {
                // What is none of a role's settings is the name of a type.
                assert_eq!(properties, ["description", "include", "limits"]);
                continue;
            }
            let mut known = taken(&path);
            known.sort();
            properties.sort();
            assert_eq!(properties, known, "[{path}]");
        }
    }
}
