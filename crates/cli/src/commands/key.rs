//! `puente key`

use std::path::Path;

use puente_core::access::OWNER;
use puente_service::Records;

use crate::exit::Failure;
use crate::output;

/// Make, list and revoke access keys.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente key create nightly-report\n  puente key revoke nightly-report")]
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
        let folder = super::open(project)?;
        let records = Records::open(&folder.private_folder()?.join("records.db"))?;
        match self.action {
            Action::Create { name, json } => create(&records, &name, json),
            Action::List { json } => list(&records, json),
            Action::Revoke { name } => {
                if records.revoke_key(&name)? {
                    output::say(format!("`{name}` is revoked"));
                    return Ok(());
                }
                let text = format!("no key named `{name}` is in force; `puente key list` shows which are");
                Err(Failure { code: 1, text })
            }
        }
    }
}

fn create(records: &Records, name: &str, json: bool) -> Result<(), Failure> {
    let key = records.create_key(name, OWNER)?;
    if json {
        output::say(serde_json::json!({ "name": name, "role": OWNER, "key": key }).to_string());
    } else {
        output::say(&key);
        output::note(format!("`{name}` asks as {OWNER}. Keep the key now: it cannot be shown again."));
    }
    Ok(())
}

fn list(records: &Records, json: bool) -> Result<(), Failure> {
    let keys = records.keys()?;
    if json {
        let rows: Vec<_> = keys
            .iter()
            .map(|key| {
                serde_json::json!({
                    "name": key.name, "role": key.role, "createdAt": key.created_at,
                    "lastUsedAt": key.last_used_at, "revokedAt": key.revoked_at,
                })
            })
            .collect();
        output::say(serde_json::Value::Array(rows).to_string());
    } else if keys.is_empty() {
        output::say("no keys yet; `puente key create NAME` makes one");
    } else {
        let or_dash = |text: Option<String>| text.unwrap_or_else(|| "–".to_owned());
        let rows = keys
            .into_iter()
            .map(|key| vec![key.name, key.role, key.created_at, or_dash(key.last_used_at), or_dash(key.revoked_at)]);
        output::say(output::table(&["name", "role", "made", "last used", "revoked"], rows));
    }
    Ok(())
}
