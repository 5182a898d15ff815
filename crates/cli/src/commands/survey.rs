//! `puente survey`

use std::fmt::Write as _;
use std::path::Path;

use puente_core::catalog::{Rename, TableKind};
use puente_core::model::{Cardinality, Proposal};
use puente_service::{Accepted, SurveyOutcome};

use crate::exit::Failure;
use crate::output::{self, faint, heading, urgent};

/// Read the database's tables, write survey/NAME.json, and say what was found.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente survey
  puente survey --accept occupancy.hut_id    # writes that proposal into puente.toml
  puente survey --accept occupancy           # writes the key that is proposed for it
  puente survey --accept huts.bed_count      # where huts.beds was renamed: the API keeps calling it beds
  puente survey --json | jq '.proposals'")]
pub(crate) struct Survey {
    /// Print JSON.
    #[arg(long)]
    json: bool,
    /// Take proposals: of these columns the links, or the names that they had before; of these tables the keys, or the names. Where
    /// none is named, the best link of every column that sampled values speak for.
    #[arg(long, value_name = "TABLE[.COLUMN]", num_args = 0..)]
    accept: Option<Vec<String>>,
}

impl Survey {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let folder = super::open(project)?;
        let mut outcome = puente_service::survey(&folder)?;
        if let Some(columns) = &self.accept {
            let accepted = chosen(&outcome, columns)?;
            puente_service::accept(&folder, &accepted)?;
            for rename in &accepted.renames {
                output::note(format!(
                    "accepted: {} is what was {}, and keeps its names",
                    rename.now(),
                    rename.before()
                ));
            }
            for key in &accepted.keys {
                output::note(format!(
                    "accepted: rows of {} are told apart by {}",
                    key.table,
                    key.columns.join(" and ")
                ));
            }
            for proposal in &accepted.links {
                output::note(format!(
                    "accepted: {}.{} refers to {}.{}",
                    proposal.table, proposal.column, proposal.to, proposal.references
                ));
            }
            // Once more, with the links that there are now.
            outcome = puente_service::survey(&super::open(project)?)?;
        }
        if self.json {
            output::say(to_json(&outcome).to_string());
        } else {
            output::say(summary(&outcome));
            output::say(faint(&format!("written to {}", folder.survey_file().display())));
        }
        match outcome.model {
            Ok(_) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}

/// What was meant: by name, or else all links that are proven; of several for one column the one with most values on the other
/// side.
fn chosen<'o>(outcome: &'o SurveyOutcome, names: &[String]) -> Result<Accepted<'o>, Failure> {
    let proposals = &outcome.proposals;
    let name = |proposal: &Proposal| format!("{}.{}", proposal.table, proposal.column);
    let mut known: Vec<String> = outcome.renames.iter().map(Rename::now).collect();
    known.extend(outcome.keys.iter().map(|key| key.table.clone()));
    known.extend(proposals.iter().map(name));
    if let Some(unknown) = names.iter().find(|wanted| !known.contains(wanted)) {
        known.dedup();
        let known = if known.is_empty() { "there are none".to_owned() } else { known.join(", ") };
        return Err(Failure::wrong(format!("nothing is proposed for `{unknown}`; proposals: {known}")));
    }
    Ok(Accepted {
        links: best(proposals, names),
        keys: outcome.keys.iter().filter(|key| names.contains(&key.table)).collect(),
        renames: outcome.renames.iter().filter(|rename| names.contains(&rename.now())).collect(),
    })
}

fn best<'p>(proposals: &'p [Proposal], columns: &[String]) -> Vec<&'p Proposal> {
    let name = |proposal: &Proposal| format!("{}.{}", proposal.table, proposal.column);
    let mut best: Vec<&Proposal> = Vec::new();
    let is_meant = |proposal: &&Proposal| {
        if columns.is_empty() { is_proven(proposal) } else { columns.contains(&name(proposal)) }
    };
    for proposal in proposals.iter().filter(is_meant) {
        let found = |proposal: &Proposal| proposal.sampled.map_or(0, |(_, found)| found);
        match best.iter_mut().find(|known| name(known) == name(proposal)) {
            Some(known) if found(proposal) > found(known) => *known = proposal,
            Some(_) => {}
            None => best.push(proposal),
        }
    }
    best
}

/// Is there more that speaks for it than names?
fn is_proven(proposal: &Proposal) -> bool {
    proposal.sampled.is_some_and(|(values, _)| values > 0)
}

/// The readable summary: tables, links, proposals, advice, changes.
pub(crate) fn summary(outcome: &SurveyOutcome) -> String {
    let mut text = String::new();
    let mut line = |line: String| writeln!(text, "{line}").expect("writing to memory does not fail");
    line(tables(outcome));
    if let Ok(model) = &outcome.model
        && model.types.iter().any(|t| !t.links.is_empty())
    {
        line(heading("Links"));
        for t in model.types.iter().filter(|t| !t.links.is_empty()) {
            let links: Vec<String> = t
                .links
                .iter()
                .map(|link| {
                    let target = &model.types[link.target].name;
                    let many = if link.cardinality == Cardinality::Many { " (many)" } else { "" };
                    format!("{} → {target}{many}", link.field)
                })
                .collect();
            line(format!("  {}: {}", t.name, links.join(", ")));
        }
    }
    if !outcome.proposals.is_empty() || !outcome.keys.is_empty() || !outcome.renames.is_empty() {
        line(heading("\nProposals (nothing is applied until it is accepted)"));
        for rename in &outcome.renames {
            let (now, before) = (rename.now(), rename.before());
            line(format!(
                "  {now} may be what was {before}: `puente survey --accept {now}` keeps the names that it had"
            ));
        }
        for key in &outcome.keys {
            let (columns, rows) = (key.columns.join(" and "), key.rows);
            line(format!("  {} has no key; {columns} told all of {rows} sampled rows apart", key.table));
            for toml in key.to_toml().lines() {
                line(format!("    {}", faint(toml)));
            }
        }
        for proposal in &outcome.proposals {
            let (values, found) = proposal.sampled.unwrap_or_default();
            let sampled = match is_proven(proposal) {
                true => format!("{found} of {values} sampled values are found there"),
                false => "there are no values that could prove it".to_owned(),
            };
            line(format!(
                "  {}.{} may refer to {}.{}: {}; {sampled}",
                proposal.table, proposal.column, proposal.to, proposal.references, proposal.evidence
            ));
            for toml in proposal.to_toml().lines() {
                line(format!("    {}", faint(toml)));
            }
        }
    }
    if !outcome.advice.is_empty() {
        line(heading("\nAdvice"));
        for advice in &outcome.advice {
            line(format!("  {} {}", urgent(&advice.place), advice.text));
        }
    }
    for notice in &outcome.notices {
        line(format!("  {}", urgent(notice)));
    }
    match outcome.changes.as_deref() {
        None => {}
        Some([]) => line(faint("\nNothing changed since the last survey.")),
        Some(changes) => {
            line(heading("\nSince the last survey"));
            for change in changes {
                line(format!(
                    "  {}{}",
                    change.text,
                    if change.breaking { urgent(" (breaks asks)") } else { String::new() }
                ));
            }
        }
    }
    text.trim_end().to_owned()
}

fn tables(outcome: &SurveyOutcome) -> String {
    let names = outcome.model.as_ref().ok().map(|model| &model.names.types);
    let rows = outcome.catalog.tables.iter().map(|table| {
        let type_name = names.and_then(|names| names.get(&table.name)).map_or("hidden", |names| names.name.as_str());
        let kind = if table.kind == TableKind::View { " (view)" } else { "" };
        let key = if table.primary_key.is_empty() { "–".to_owned() } else { table.primary_key.join(", ") };
        vec![
            format!("{}{kind}", table.name),
            type_name.to_owned(),
            table.columns.len().to_string(),
            key,
            if table.kind == TableKind::View { "–".to_owned() } else { format!("~{}", table.about_rows) },
        ]
    });
    output::table(&["table", "type", "columns", "key", "rows"], rows)
}

fn to_json(outcome: &SurveyOutcome) -> serde_json::Value {
    let proposals: Vec<_> = outcome
        .proposals
        .iter()
        .map(|p| {
            let (values, found) = p.sampled.unwrap_or_default();
            serde_json::json!({
                "table": p.table, "column": p.column, "to": p.to, "references": p.references,
                "evidence": p.evidence, "sampledValues": values, "foundValues": found, "toml": p.to_toml(),
            })
        })
        .collect();
    let keys: Vec<_> = outcome
        .keys
        .iter()
        .map(|key| {
            serde_json::json!({
                "table": key.table, "columns": key.columns, "sampledRows": key.rows, "toml": key.to_toml(),
            })
        })
        .collect();
    let renames: Vec<_> = outcome
        .renames
        .iter()
        .map(|rename| serde_json::json!({ "now": rename.now(), "before": rename.before() }))
        .collect();
    let advice: Vec<_> =
        outcome.advice.iter().map(|a| serde_json::json!({ "place": a.place, "text": a.text })).collect();
    let changes = outcome.changes.as_ref().map(|changes| {
        changes
            .iter()
            .map(|c| serde_json::json!({ "table": c.table, "text": c.text, "breaking": c.breaking }))
            .collect::<Vec<_>>()
    });
    serde_json::json!({
        "tables": outcome.catalog.tables, "proposals": proposals, "keys": keys, "renames": renames, "advice": advice,
        "notices": outcome.notices, "changes": changes,
    })
}
