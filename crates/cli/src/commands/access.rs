//! `puente access`

use std::path::Path;

use puente_core::access::{Action, Grant, Role};
use puente_core::model::{Model, TypeId};
use puente_core::suggest::did_you_mean;
use puente_service::{ProjectFolder, Visible, claims_of, visible_rows};
use serde_json::{Value as Json, json};

use crate::exit::Failure;
use crate::output::{self, faint, heading};

/// Show what each role may do: a matrix, one type, or who may read one field and by which grant.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente access                                   # every role and every type
  puente access Booking                           # what each role may do with bookings, and under which rules
  puente access Booking --as hiker --claim sub=7  # how many rows of how many are there for this hiker
  puente access Hiker.phone                       # who may read it, and by which grant")]
pub(crate) struct Access {
    /// A type, or a field as TYPE.FIELD.
    what: Option<String>,
    /// Only this role; for a type, its rows are counted in the database.
    #[arg(long = "as", value_name = "ROLE")]
    role: Option<String>,
    /// A claim to count rows with; the value is JSON where it is that (`groups=["a","b"]`, `sub="Customer 5"`), else text (`sub=7`, `name=Ann`).
    #[arg(long = "claim", value_name = "NAME=VALUE", requires = "role")]
    claims: Vec<String>,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

impl Access {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        // Only rows that are counted need the database.
        let counts = self.role.is_some() && self.what.as_ref().is_some_and(|what| !what.contains('.'));
        let folder = if counts { super::open(project)? } else { super::open_without_secrets(project)? };
        let model = folder.model()?;
        let mut roles = folder.roles(&model)?;
        if let Some(wanted) = &self.role {
            let names: Vec<String> = roles.iter().map(|role| role.view.role().to_owned()).collect();
            roles.retain(|role| role.view.role() == wanted);
            if roles.is_empty() {
                let hint = did_you_mean(wanted, names.iter().map(String::as_str));
                return Err(Failure::wrong(format!("`{wanted}` is not a role{hint}; roles are {}", names.join(", "))));
            }
        }
        if roles.is_empty() && !self.json {
            output::say("no roles yet: only `owner` sees anything. `[role.NAME.TYPE.read]` in puente.toml grants");
            return Ok(());
        }
        match self.what.as_deref().map(|what| what.split_once('.').map_or((what, None), |(t, f)| (t, Some(f)))) {
            None => self.matrix(&model, &roles),
            Some((name, None)) => self.one_type(&folder, &model, type_named(&model, name)?, &roles)?,
            Some((name, Some(field))) => self.one_field(&model, type_named(&model, name)?, field, &roles)?,
        }
        Ok(())
    }

    fn matrix(&self, model: &Model, roles: &[Role]) {
        if self.json {
            let roles: Vec<Json> = roles
                .iter()
                .map(|role| {
                    let grants: Vec<Json> = role.grants.iter().map(|grant| told(model, role, grant)).collect();
                    json!({ "role": role.view.role(), "description": role.description, "grants": grants })
                })
                .collect();
            output::say_json(&Json::Array(roles));
            return;
        }
        let head: Vec<&str> = std::iter::once("").chain(roles.iter().map(|role| role.view.role())).collect();
        let rows = model.tables().map(|(of, t)| {
            let cells = roles.iter().map(|role| {
                let lines: Vec<String> =
                    role.grants.iter().filter(|grant| grant.of == of).map(|grant| brief(model, role, grant)).collect();
                if lines.is_empty() { "–".to_owned() } else { lines.join("\n") }
            });
            std::iter::once(t.name.clone()).chain(cells).collect()
        });
        output::say(output::table(&head, rows));
        for role in roles {
            if let Some(description) = &role.description {
                output::say(format!("{}: {description}", role.view.role()));
            }
        }
        output::say(faint(
            "n/m: so many fields of so many. rows: some rows only. check: asked of the row after the change. \
             masks: some values only.\n`puente access TYPE` shows the rules, `puente access TYPE.FIELD` who may read a field",
        ));
    }

    fn one_type(&self, folder: &ProjectFolder, model: &Model, of: TypeId, roles: &[Role]) -> Result<(), Failure> {
        let mut found = Vec::new();
        for role in roles {
            let visible = match (&self.role, role.view.type_view(of)) {
                (Some(_), Some(_)) => {
                    let claims = claims_of(&self.claims).map_err(Failure::wrong)?;
                    Some(super::block_on(visible_rows(folder, role, of, claims, &|_| None))??)
                }
                _ => None,
            };
            if self.json {
                let grants: Vec<Json> =
                    role.grants.iter().filter(|grant| grant.of == of).map(|grant| told(model, role, grant)).collect();
                let rows = visible.map(|Visible { rows, of }| json!({ "visible": rows, "of": of }));
                found.push(json!({ "role": role.view.role(), "grants": grants, "rows": rows }));
                continue;
            }
            output::say(heading(&format!("{} as {}", model.types[of].name, role.view.role())));
            let mut any = false;
            for grant in role.grants.iter().filter(|grant| grant.of == of) {
                any = true;
                describe(model, role, grant);
            }
            if !any {
                output::say("  nothing: the type is not there for this role");
            }
            if let Some(Visible { rows, of }) = visible {
                output::say(format!("  sees {rows} of {of} rows with these claims"));
            }
        }
        if self.json {
            output::say_json(&Json::Array(found));
        }
        Ok(())
    }

    fn one_field(&self, model: &Model, of: TypeId, field: &str, roles: &[Role]) -> Result<(), Failure> {
        if !puente_service::has_field(model, of, field) {
            let hint = did_you_mean(field, puente_service::field_names(model, of));
            return Err(Failure::wrong(format!("`{}` has no field `{field}`{hint}", model.types[of].name)));
        }
        let lines = puente_service::who_can(model, roles, of, field);
        if self.json {
            // As everywhere: grants with all that they say.
            let is_named = |grant: &&Grant| {
                grant.of == of
                    && lines.iter().any(|line| line.line == grant.edit.place.line && line.action == grant.action)
            };
            let found: Vec<Json> = roles
                .iter()
                .flat_map(|role| role.grants.iter().filter(is_named).map(move |grant| told(model, role, grant)))
                .collect();
            output::say_json(&Json::Array(found));
            return Ok(());
        }
        if lines.is_empty() {
            output::say(format!("nobody but owner: no role was granted `{}.{field}`", model.types[of].name));
            return Ok(());
        }
        let rows = lines.into_iter().map(|line| {
            let mut only: Vec<String> = line.rows.into_iter().collect();
            if !line.parts.is_empty() {
                only.push(format!("of it {}", line.parts.join(", ")));
            }
            for mask in &line.masks {
                let what = if mask.field == field { "value" } else { mask.field.as_str() };
                only.push(format!("{what} only where {}", mask.rule));
            }
            let only = if only.is_empty() { "every row".to_owned() } else { only.join("; ") };
            vec![line.role, line.action.word().to_owned(), only, format!("{}, line {}", line.section, line.line)]
        });
        output::say(output::table(&["role", "may", "where", "by"], rows));
        Ok(())
    }
}

fn type_named(model: &Model, name: &str) -> Result<TypeId, Failure> {
    let found = model.tables().find(|(_, t)| t.name == name).map(|(of, _)| of);
    found.ok_or_else(|| {
        let hint = did_you_mean(name, model.tables().map(|(_, t)| t.name.as_str()));
        Failure::wrong(format!("there is no type `{name}`{hint}"))
    })
}

/// One line of the matrix.
fn brief(model: &Model, role: &Role, grant: &Grant) -> String {
    let mut words = vec![grant.action.word().to_owned()];
    match grant.action {
        Action::Read => {
            let shown = role.view.columns(grant.of).count() + role.view.links(grant.of).count();
            words.push(format!("{shown}/{}", model.types[grant.of].fields().count()));
        }
        Action::Create | Action::Update => words.push(grant.fields.len().to_string()),
        Action::Delete => {}
    }
    let edit = &grant.edit;
    let marks = [
        (edit.rows.is_some(), "rows"),
        (edit.check.is_some(), "check"),
        (!edit.fixed.is_empty(), "fixed"),
        (!edit.masks.is_empty(), "masks"),
        (!edit.count, "no counts"),
    ];
    words.extend(marks.into_iter().filter(|(set, _)| *set).map(|(_, word)| word.to_owned()));
    words.join(" ")
}

/// One grant with everything that it says.
fn describe(model: &Model, role: &Role, grant: &Grant) {
    let edit = &grant.edit;
    let from = grant.from.as_ref().map_or_else(String::new, |from| format!(" (included from {from})"));
    output::say(format!("  {}{}", grant.action.word(), faint(&from)));
    let say = |name: &str, text: &str| output::say(format!("    {name:<9} {text}"));
    if !grant.fields.is_empty() {
        let mut fields = grant.fields.clone();
        if grant.action == Action::Read {
            let links: Vec<&str> = role.view.links(grant.of).map(|(_, link)| link.field.as_str()).collect();
            fields.retain(|field| model.field_called(grant.of, field).is_some() || links.contains(&field.as_str()));
        }
        say("fields", &fields.join(", "));
        let hidden = hidden(model, role, grant.of);
        if !hidden.is_empty() && grant.action == Action::Read {
            say("not", &hidden.join(", "));
        }
    }
    if let Some(rule) = &edit.rows {
        say("rows", &rule.text);
    }
    if let Some(rule) = &edit.check {
        say("check", &rule.text);
    }
    for (field, rule) in &edit.fixed {
        say("fixed", &format!("{field} = {}", rule.text));
    }
    for (field, rule) in &edit.masks {
        say("mask", &format!("{field} only where {}", rule.text));
    }
    if let Some(most) = edit.max_page {
        say("max_page", &most.to_string());
    }
    if !edit.count {
        say("count", "no");
    }
    if edit.cascade {
        say("cascade", "yes");
    }
}

/// The fields of a type that a role does not see; of objects inside JSON of which it sees something, those inside.
fn hidden(model: &Model, role: &Role, of: TypeId) -> Vec<String> {
    let Some(view) = role.view.type_view(of) else { return Vec::new() };
    let columns = model.types[of].columns.iter().enumerate();
    let hidden = columns.filter(|(column, c)| {
        let is_reached = c.member.as_ref().is_none_or(|member| view.columns[member.within]);
        c.field.is_some() && !view.columns[*column] && is_reached
    });
    hidden.map(|(_, column)| column.label().to_owned()).collect()
}

/// One grant for programs.
fn told(model: &Model, role: &Role, grant: &Grant) -> Json {
    let edit = &grant.edit;
    let rules = |rules: &indexmap::IndexMap<String, puente_core::project::RuleText>| -> Json {
        rules
            .iter()
            .map(|(field, rule)| (field.clone(), Json::from(rule.text.clone())))
            .collect::<serde_json::Map<_, _>>()
            .into()
    };
    json!({
        "role": role.view.role(),
        "type": model.types[grant.of].name,
        "action": grant.action.word(),
        "fields": grant.fields,
        "allFields": grant.all_fields,
        "rows": edit.rows.as_ref().map(|rule| &rule.text),
        "check": edit.check.as_ref().map(|rule| &rule.text),
        "fixed": rules(&edit.fixed),
        "masks": rules(&edit.masks),
        "maxPage": edit.max_page,
        "count": edit.count,
        "cascade": edit.cascade,
        "from": grant.from,
        "line": edit.place.line,
    })
}
