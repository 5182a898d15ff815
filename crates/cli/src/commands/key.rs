//! `puente key`

use std::path::Path;
use std::time::Duration;

use indexmap::IndexMap;
use puente_core::access::OWNER;
use puente_core::project::{FILE, KeyEdit};
use puente_service::{AccessKeys, NewKey, claims_of};

use crate::exit::Failure;
use crate::output;

/// Make, list and revoke access keys.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente key create nightly-report
  puente key create app --as hiker --claim sub=7 --expires 90d
  puente key revoke nightly-report")]
pub(crate) struct Key {
    #[command(subcommand)]
    action: Action,
}

#[derive(Debug, clap::Subcommand)]
enum Action {
    /// Make a key and print it. It is shown once: only its hash is kept.
    Create {
        /// What the key is for.
        name: String,
        /// The role that it asks as.
        #[arg(long = "as", value_name = "ROLE", default_value = OWNER)]
        role: String,
        /// A claim that it asks with; the value is JSON where it is that (`groups=["a","b"]`, `sub="Customer 5"`), else text (`sub=7`, `name=Ann`).
        #[arg(long = "claim", value_name = "NAME=VALUE")]
        claims: Vec<String>,
        /// For counters alone: it reads `/metrics`, and no data.
        #[arg(long, conflicts_with_all = ["role", "claims"])]
        metrics: bool,
        /// Keep nothing: print the lines of the project file that make it known to every instance.
        #[arg(long)]
        print: bool,
        /// How long it is in force, such as 8h, 30d or 365d; until it is revoked, where left out.
        #[arg(long, value_name = "TIME", value_parser = lifetime)]
        expires: Option<Duration>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// List the keys, without the keys themselves.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Revoke a key. A running service refuses it within a second.
    Revoke {
        /// The key's name.
        name: String,
    },
}

impl Key {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let folder = super::open_without_secrets(project)?;
        let access_keys =
            || -> Result<AccessKeys, Failure> { Ok(AccessKeys::open(&folder.private_folder()?.join("records.db"))?) };
        match self.action {
            Action::Create { name, role, claims, metrics, print, expires, json } => {
                super::check_role(&folder, &role)?;
                if folder.project.keys.contains_key(&name) {
                    let text = format!("the project file has a key named `{name}`; choose another name");
                    return Err(Failure::wrong(text));
                }
                let claims = claims_of(&claims).map_err(Failure::wrong)?;
                let new = NewKey { name: &name, role: &role, claims, lifetime: expires, metrics };
                if print { print_key(&new, json) } else { create(&access_keys()?, &new, json) }
            }
            Action::List { json } => list(&access_keys()?, &folder.project.keys, json),
            Action::Revoke { name } => {
                if access_keys()?.revoke_key(&name)? {
                    output::say(format!("`{name}` is revoked"));
                    return Ok(());
                }
                let text = format!("no key named `{name}` is in force; `puente key list` shows which are");
                Err(Failure { code: 1, text })
            }
        }
    }
}

/// A time such as `30m`, `8h` or `7d`.
pub(super) fn lifetime(text: &str) -> Result<Duration, String> {
    let wrong = || format!("`{text}` is not a time; write a number with s, m, h or d, such as 8h");
    let unit = text.chars().last().ok_or_else(wrong)?;
    let seconds = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        _ => return Err(wrong()),
    };
    let number: u64 = text[..text.len() - 1].parse().map_err(|_| wrong())?;
    // Longer than anybody means, and shorter than what dates can hold.
    const LONGEST: u64 = 100 * 366 * 86_400;
    number.checked_mul(seconds).filter(|total| (1..=LONGEST).contains(total)).map(Duration::from_secs).ok_or_else(wrong)
}

/// Prints a key and the lines of the project file that make it known.
fn print_key(new: &NewKey<'_>, json: bool) -> Result<(), Failure> {
    let NewKey { name, role, claims, lifetime, metrics } = new;
    let key = puente_service::new_key();
    let hash = puente_core::project::key_hash_text(&puente_service::key_hash(&key));
    let ends = lifetime.and_then(|lifetime| jiff::Timestamp::now().checked_add(lifetime).ok());
    let ends = ends.map(|ends| ends.strftime("%Y-%m-%dT%H:%M:%SZ").to_string());
    let mut table = toml_edit::Table::new();
    table.insert("hash", toml_edit::value(&hash));
    if *metrics {
        table.insert("metrics", toml_edit::value(true));
    } else {
        table.insert("role", toml_edit::value(*role));
    }
    if !claims.is_empty() {
        let claims = toml(&serde_json::Value::Object(claims.clone())).ok_or_else(|| {
            Failure::wrong(
                "claims in the project file are texts, numbers, true or false, lists and objects, and not null",
            )
        })?;
        table.insert("claims", toml_edit::Item::Value(claims));
    }
    if let Some(ends) = &ends {
        table.insert("ends", toml_edit::value(ends));
    }
    if json {
        let role = if *metrics { serde_json::Value::Null } else { (*role).into() };
        let told = serde_json::json!({
            "name": name, "key": key, "hash": hash, "role": role, "claims": claims, "ends": ends, "metrics": metrics,
        });
        output::say(told.to_string());
        return Ok(());
    }
    let mut document = toml_edit::DocumentMut::new();
    let mut keys = toml_edit::Table::new();
    keys.set_implicit(true);
    keys.insert(name, toml_edit::Item::Table(table));
    document.insert("key", toml_edit::Item::Table(keys));
    output::say(&key);
    output::say(format!("\n{}", document.to_string().trim_end()));
    output::note("Keep the key now: it cannot be shown again. The lines belong into the project file.");
    Ok(())
}

/// JSON as the project file says it; none for null, and for numbers that it does not have.
fn toml(value: &serde_json::Value) -> Option<toml_edit::Value> {
    use serde_json::Value as Json;
    Some(match value {
        Json::Null => return None,
        Json::Bool(flag) => (*flag).into(),
        Json::String(text) => text.into(),
        Json::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64().filter(|found| found.to_string() == number.to_string())?.into(),
        },
        Json::Array(items) => toml_edit::Value::Array(items.iter().map(toml).collect::<Option<_>>()?),
        Json::Object(members) => {
            let mut table = toml_edit::InlineTable::new();
            for (name, member) in members {
                table.insert(name, toml(member)?);
            }
            table.into()
        }
    })
}

fn create(access_keys: &AccessKeys, new: &NewKey<'_>, json: bool) -> Result<(), Failure> {
    let key = access_keys.create_key(new)?;
    let NewKey { name, claims, .. } = new;
    let role = Some(new.role).filter(|_| !new.metrics);
    if json {
        output::say_json(&serde_json::json!({ "name": name, "role": role, "claims": claims, "key": key }));
    } else {
        output::say(&key);
        let does = role.map_or_else(|| "reads counters".to_owned(), |role| format!("asks as {role}"));
        output::note(format!("`{name}` {does}. Keep the key now: it cannot be shown again."));
    }
    Ok(())
}

/// What stands for what a key does not have.
const NOTHING: &str = "–";
/// What is told of a key that reads counters alone.
const METRICS_ROLE: &str = "counters alone";

fn list(access_keys: &AccessKeys, of_project: &IndexMap<String, KeyEdit>, json: bool) -> Result<(), Failure> {
    let keys = access_keys.keys()?;
    if json {
        let of_project = of_project.iter().map(|(name, key)| {
            serde_json::json!({
                "name": name, "role": key.role, "claims": key.claims, "metrics": key.role.is_none(),
                "expiresAt": key.ends.map(|ends| ends.to_string()), "of": FILE,
            })
        });
        let rows: Vec<_> = keys
            .iter()
            .map(|key| {
                let role = Some(&key.role).filter(|_| !key.metrics);
                serde_json::json!({
                    "metrics": key.metrics, "of": "records",
                    "name": key.name, "role": role, "createdAt": key.created_at, "expiresAt": key.expires_at,
                    "claims": serde_json::from_str::<serde_json::Value>(&key.claims).unwrap_or_default(),
                    "lastUsedAt": key.last_used_at, "revokedAt": key.revoked_at,
                })
            })
            .chain(of_project)
            .collect();
        output::say(serde_json::Value::Array(rows).to_string());
    } else if keys.is_empty() && of_project.is_empty() {
        output::say("no keys yet; `puente key create NAME` makes one");
    } else {
        let or_dash = |text: Option<String>| text.unwrap_or_else(|| NOTHING.to_owned());
        let rows = keys.into_iter().map(|key| {
            let claims = if key.claims == "{}" { NOTHING.to_owned() } else { key.claims };
            let ends = or_dash(key.revoked_at.map(|at| format!("revoked {at}")).or(key.expires_at));
            let role = if key.metrics { METRICS_ROLE.to_owned() } else { key.role };
            vec![key.name, role, claims, key.created_at, or_dash(key.last_used_at), ends]
        });
        let of_project = of_project.iter().map(|(name, key)| {
            let claims =
                if key.claims.is_empty() { NOTHING.to_owned() } else { serde_json::json!(key.claims).to_string() };
            let role = key.role.clone().unwrap_or_else(|| METRICS_ROLE.to_owned());
            let ends = or_dash(key.ends.map(|ends| ends.to_string()));
            vec![name.clone(), role, claims, format!("in {FILE}"), NOTHING.to_owned(), ends]
        });
        let rows = rows.chain(of_project);
        output::say(output::table(&["name", "role", "claims", "made", "last used", "ends"], rows));
    }
    Ok(())
}
