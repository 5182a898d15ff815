//! `puente survey`

use std::fmt::Write as _;
use std::path::Path;

use puente_core::catalog::{Drift, Rename, Shape, TableKind, told_rows};
use puente_core::model::{Cardinality, FieldType, Model, Proposal, ShapeProposal, Type, shaped};
use puente_core::suggest::did_you_mean;
use puente_service::{Accepted, ProjectFolder, SourceOutcome, SurveyOutcome};
use serde_json::Value as Json;

use crate::exit::Failure;
use crate::output::{self, faint, heading, urgent};

/// Read the tables of every source, write survey/NAME.json for each, and say what was found.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente survey
  puente survey --source log                 # of several sources this one alone
  puente survey --accept occupancy.hut_id    # writes that proposal into puente.toml
  puente survey --accept occupancy           # writes the key that is proposed for it
  puente survey --accept incidents.report    # gives the JSON in that column types
  puente survey --afresh                     # forgets what is not found any more
  puente survey --accept huts.bed_count      # where huts.beds was renamed: the API keeps calling it beds
  puente survey --json | jq '.proposals'")]
pub(crate) struct Survey {
    /// The one source to read, of several.
    #[arg(long, value_name = "NAME")]
    source: Option<String>,
    /// Forget what samples of values showed before and do not show any more: types may become narrower, members may go. What that
    /// breaks is told.
    #[arg(long)]
    afresh: bool,
    /// Print JSON.
    #[arg(long)]
    json: bool,
    /// Take proposals: of these columns the links, the types of their JSON, or the names that they had before; of these tables the
    /// keys, or the names. Where none is named, the best link of every column that sampled values speak for.
    #[arg(long, value_name = "TABLE[.COLUMN]", num_args = 0..)]
    accept: Option<Vec<String>>,
}

impl Survey {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let folder = super::open(project)?;
        let only = self.source.as_deref();
        check_source(&folder, only)?;
        let survey = if self.afresh { puente_service::survey_afresh } else { puente_service::survey };
        let mut outcome = survey(&folder, only)?;
        if let Some(columns) = &self.accept {
            let accepted = chosen(&outcome, columns)?;
            puente_service::accept(&folder, &accepted)?;
            for (_, rename) in &accepted.renames {
                noted(format!("accepted: {} is what was {}, and keeps its names", rename.now(), rename.before()));
            }
            for key in &accepted.keys {
                noted(format!("accepted: rows of {} are told apart by {}", key.table, key.columns.join(" and ")));
            }
            for shape in &accepted.shapes {
                noted(format!("accepted: the JSON in {}.{} gets types", shape.table, shape.column));
            }
            for proposal in &accepted.links {
                noted(format!(
                    "accepted: {}.{} refers to {}.{}",
                    proposal.table, proposal.column, proposal.to, proposal.references
                ));
            }
            // Once more, with the links that there are now.
            outcome = puente_service::survey(&super::open(project)?, only)?;
        }
        if self.json {
            output::say_json(&to_json(&outcome));
        } else {
            output::say(summary(&outcome));
            let files: Vec<String> = outcome.sources.iter().map(|of| of.file.display().to_string()).collect();
            output::say(faint(&format!("written to {}", files.join(" and "))));
        }
        match outcome.model {
            Ok(_) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }
}

/// Is there such a source?
fn check_source(folder: &ProjectFolder, name: Option<&str>) -> Result<(), Failure> {
    let known: Vec<&str> = folder.project.sources.iter().map(|source| source.name.as_str()).collect();
    match name.filter(|name| !known.contains(name)) {
        None => Ok(()),
        Some(name) => {
            let hint = did_you_mean(name, known.iter().copied());
            Err(Failure::wrong(format!(
                "`{name}` is not a source of this project{hint}; sources are {}",
                known.join(", ")
            )))
        }
    }
}

/// Tells what was done.
fn noted(text: String) {
    output::note(output::one_line(&text));
}

/// What was meant: by name, or else all links that are proven; of several for one column the one with most values on the other
/// side.
fn chosen<'o>(outcome: &'o SurveyOutcome, names: &[String]) -> Result<Accepted<'o>, Failure> {
    let proposals = &outcome.proposals;
    let name = |proposal: &Proposal| format!("{}.{}", proposal.table, proposal.column);
    let mut known: Vec<String> = outcome.renames().map(|(_, rename)| rename.now()).collect();
    known.extend(outcome.keys.iter().map(|key| key.table.clone()));
    let shaped = |shape: &ShapeProposal| format!("{}.{}", shape.table, shape.column);
    known.extend(outcome.shapes.iter().map(shaped));
    known.extend(proposals.iter().map(name));
    if let Some(unknown) = names.iter().find(|wanted| !known.contains(wanted)) {
        known.dedup();
        let known = if known.is_empty() { "there are none".to_owned() } else { output::foreign(&known.join(", ")) };
        let unknown = output::foreign(unknown);
        return Err(Failure::wrong(format!("nothing is proposed for `{unknown}`; proposals: {known}")));
    }
    Ok(Accepted {
        links: best(proposals, names),
        keys: outcome.keys.iter().filter(|key| names.contains(&key.table)).collect(),
        shapes: outcome.shapes.iter().filter(|shape| names.contains(&shaped(shape))).collect(),
        renames: outcome.renames().filter(|(_, rename)| names.contains(&rename.now())).collect(),
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
    let written = std::cell::RefCell::new(&mut text);
    let mut line = |line: String| {
        writeln!(written.borrow_mut(), "{}", output::one_line(&line)).expect("writing to memory does not fail");
    };
    let lines = |lines: String| writeln!(written.borrow_mut(), "{lines}").expect("writing to memory does not fail");
    for of in &outcome.sources {
        if let Some(model) = outcome.model.as_ref().ok().filter(|model| model.has_several_sources()) {
            let before = if std::ptr::eq(of, &outcome.sources[0]) { "" } else { "\n" };
            line(heading(&format!("{before}Source {} ({} types)", of.name, types_of(model, of).count())));
        }
        lines(tables(outcome, of));
    }
    if let Ok(model) = &outcome.model
        && model.types.iter().any(|t| !t.links.is_empty())
    {
        line(heading(if outcome.sources.len() > 1 { "\nLinks" } else { "Links" }));
        for t in model.types.iter().filter(|t| !t.links.is_empty()) {
            let links: Vec<String> = t
                .links
                .iter()
                .map(|link| {
                    let target = &model.types[link.target].name;
                    let many = if link.cardinality == Cardinality::Many { " (many)" } else { "" };
                    let of = match link.crosses {
                        true => format!(" of {}", model.sources[model.types[link.target].source]),
                        false => String::new(),
                    };
                    format!("{} → {target}{of}{many}", link.field)
                })
                .collect();
            line(format!("  {}: {}", t.name, links.join(", ")));
        }
    }
    shapes(outcome, &mut line);
    let several = [outcome.proposals.is_empty(), outcome.keys.is_empty(), outcome.shapes.is_empty()];
    if several.contains(&false) || outcome.renames().next().is_some() {
        line(heading("\nProposals (nothing is applied until it is accepted)"));
        for (_, rename) in outcome.renames() {
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
        for ShapeProposal { table, column, found, .. } in &outcome.shapes {
            let (what, samples) = (found.shape.describe(), found.samples);
            line(format!(
                "  {table}.{column} holds JSON, in {samples} samples of one kind ({what}): `puente survey --accept \
                 {table}.{column}` gives it types"
            ));
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
    let (several, sources) = (outcome.sources.len() > 1, || outcome.sources.iter());
    if sources().any(|of| !of.advice.is_empty() || !of.notices.is_empty()) {
        line(heading("\nAdvice"));
        for advice in sources().flat_map(|of| &of.advice) {
            line(format!("  {} {}", urgent(&advice.place), advice.text));
        }
    }
    for notice in sources().flat_map(|of| &of.notices) {
        line(format!("  {}", urgent(notice)));
    }
    if outcome.became_several {
        line(heading("\nSeveral sources"));
        line(
            "  Root lists can be null from now on, where their source is away: clients that take them for non-null need the \
             new schema (`puente schema`)."
                .to_owned(),
        );
    }
    let changed = || sources().filter_map(|of| Some((of, of.changes.as_deref()?)));
    if changed().all(|(_, changes)| changes.is_empty()) {
        if changed().next().is_some() {
            line(faint("\nNothing changed since the last survey."));
        }
    } else {
        line(heading("\nSince the last survey"));
        for (of, change) in changed().flat_map(|(of, changes)| changes.iter().map(move |change| (of, change))) {
            let source = if several { format!("{}: ", of.name) } else { String::new() };
            let breaks = if change.breaking { urgent(" (breaks asks)") } else { String::new() };
            line(format!("  {source}{}{breaks}", change.text));
        }
    }
    text.trim_end().to_owned()
}

/// What JSON columns hold, as trees, with the types where they have them.
fn shapes(outcome: &SurveyOutcome, line: &mut impl FnMut(String)) {
    let all = outcome.sources.iter().flat_map(|of| shaped(&of.catalog).map(move |found| (of, found)));
    for (at, (of, (table, column, found))) in all.enumerate() {
        if at == 0 {
            line(heading("\nJSON"));
        }
        let model = outcome.model.as_ref().ok();
        let t = model.and_then(|model| types_of(model, of).find(|t| t.table == table.name));
        let kind = t.and_then(|t| t.columns.iter().find(|known| known.name == column.name)).map(|known| known.kind);
        let named = match (model, kind) {
            (Some(model), Some(kind @ (FieldType::Object(_) | FieldType::Items(_)))) => {
                format!(" → {}", model.kind_words(kind))
            }
            _ => String::new(),
        };
        let unreadable = match found.unreadable {
            0 => String::new(),
            share => urgent(&format!(", {share} % is not JSON")),
        };
        let what = found.shape.describe();
        line(format!("  {}.{}: {what}, {} samples{unreadable}{named}", table.name, column.name, found.samples));
        members(&found.shape, 2, line);
    }
}

/// The members of an object, or of the objects in a list, a line each.
fn members(shape: &Shape, depth: usize, line: &mut impl FnMut(String)) {
    for (name, member) in &shape.members {
        let share = if member.share < 100 { format!(", in {} %", member.share) } else { String::new() };
        let null = if member.nullable { ", or null" } else { "" };
        let notice = member.notice.as_ref().map_or_else(String::new, |notice| urgent(&format!(": {notice}")));
        let conflict = if member.types.is_empty() { String::new() } else { urgent(" of several types: stays JSON") };
        line(format!("{}{name}: {}{share}{null}{notice}{conflict}", "  ".repeat(depth), member.describe()));
        members(member, depth + 1, line);
    }
    if let Some(items) = &shape.items {
        members(items, depth, line);
    }
}

fn types_of<'m>(model: &'m Model, of: &SourceOutcome) -> impl Iterator<Item = &'m Type> {
    model.tables().map(|(_, t)| t).filter(move |t| model.sources[t.source] == of.name)
}

fn tables(outcome: &SurveyOutcome, of: &SourceOutcome) -> String {
    let rows = of.catalog.tables.iter().map(|table| {
        let t = outcome.model.as_ref().ok().and_then(|model| types_of(model, of).find(|t| t.table == table.name));
        let kind = if table.kind == TableKind::View { " (view)" } else { "" };
        let key = if table.primary_key.is_empty() { "–".to_owned() } else { table.primary_key.join(", ") };
        vec![
            format!("{}{kind}", output::foreign(&table.name)),
            t.map_or("hidden", |t| t.name.as_str()).to_owned(),
            table.columns.len().to_string(),
            output::foreign(&key),
            told_rows(table.about_rows),
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
    let shapes: Vec<_> = outcome
        .shapes
        .iter()
        .map(|shape| {
            serde_json::json!({
                "table": shape.table, "column": shape.column, "shape": shape.found, "toml": shape.to_toml(),
            })
        })
        .collect();
    let each = |told: &dyn Fn(&SourceOutcome) -> Vec<Json>| -> Vec<Json> {
        let of_source = |of: &SourceOutcome| {
            told(of)
                .into_iter()
                .map(|mut told| {
                    told["source"] = of.name.as_str().into();
                    told
                })
                .collect::<Vec<_>>()
        };
        outcome.sources.iter().flat_map(of_source).collect()
    };
    let tables = each(&|of| of.catalog.tables.iter().map(|table| serde_json::json!(table)).collect());
    let renames = each(&|of| {
        let told = |rename: &Rename| serde_json::json!({ "now": rename.now(), "before": rename.before() });
        of.renames.iter().map(told).collect()
    });
    let advice =
        each(&|of| of.advice.iter().map(|a| serde_json::json!({ "place": a.place, "text": a.text })).collect());
    let changes = each(&|of| {
        let told = |c: &Drift| serde_json::json!({ "table": c.table, "text": c.text, "breaking": c.breaking });
        of.changes.iter().flatten().map(told).collect()
    });
    let is_first = outcome.sources.iter().all(|of| of.changes.is_none());
    let notices: Vec<&String> = outcome.sources.iter().flat_map(|of| &of.notices).collect();
    serde_json::json!({
        "tables": tables, "proposals": proposals, "keys": keys, "shapes": shapes, "renames": renames, "advice": advice,
        "notices": notices, "becameSeveral": outcome.became_several, "changes": if is_first { Json::Null } else { changes.into() },
    })
}
