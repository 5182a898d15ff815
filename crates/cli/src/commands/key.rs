//! `puente key`

use std::path::Path;
use std::time::Duration;

use puente_core::access::OWNER;
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
        /// A claim that it asks with; the value is JSON, or text where it is none.
        #[arg(long = "claim", value_name = "NAME=VALUE")]
        claims: Vec<String>,
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
        let access_keys = AccessKeys::open(&folder.private_folder()?.join("records.db"))?;
        match self.action {
            Action::Create { name, role, claims, expires, json } => {
                super::check_role(&folder, &role)?;
                let claims = claims_of(&claims).map_err(Failure::wrong)?;
                create(&access_keys, &NewKey { name: &name, role: &role, claims, lifetime: expires }, json)
            }
            Action::List { json } => list(&access_keys, json),
            Action::Revoke { name } => {
                if access_keys.revoke_key(&name)? {
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

fn create(access_keys: &AccessKeys, new: &NewKey<'_>, json: bool) -> Result<(), Failure> {
    let key = access_keys.create_key(new)?;
    let NewKey { name, role, claims, .. } = new;
    if json {
        output::say(serde_json::json!({ "name": name, "role": role, "claims": claims, "key": key }).to_string());
    } else {
        output::say(&key);
        output::note(format!("`{name}` asks as {role}. Keep the key now: it cannot be shown again."));
    }
    Ok(())
}

fn list(access_keys: &AccessKeys, json: bool) -> Result<(), Failure> {
    let keys = access_keys.keys()?;
    if json {
        let rows: Vec<_> = keys
            .iter()
            .map(|key| {
                serde_json::json!({
                    "name": key.name, "role": key.role, "createdAt": key.created_at, "expiresAt": key.expires_at,
                    "claims": serde_json::from_str::<serde_json::Value>(&key.claims).unwrap_or_default(),
                    "lastUsedAt": key.last_used_at, "revokedAt": key.revoked_at,
                })
            })
            .collect();
        output::say(serde_json::Value::Array(rows).to_string());
    } else if keys.is_empty() {
        output::say("no keys yet; `puente key create NAME` makes one");
    } else {
        let or_dash = |text: Option<String>| text.unwrap_or_else(|| "–".to_owned());
        let rows = keys.into_iter().map(|key| {
            let claims = if key.claims == "{}" { "–".to_owned() } else { key.claims };
            let ends = or_dash(key.revoked_at.map(|at| format!("revoked {at}")).or(key.expires_at));
            vec![key.name, key.role, claims, key.created_at, or_dash(key.last_used_at), ends]
        });
        output::say(output::table(&["name", "role", "claims", "made", "last used", "ends"], rows));
    }
    Ok(())
}
