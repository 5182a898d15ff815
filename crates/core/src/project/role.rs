//! `[role.NAME]`: who may see and change what, as typed. What it comes to on the model is [`crate::access`]'s to say.

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::limits::read_limits;
use super::reader::{Reader, Section};
use super::{Limits, Place, is_plain_name};

/// The role that sees everything.
pub const OWNER: &str = "owner";

/// What a grant allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub enum Action {
    /// Reading, and with it filtering, ordering and counting.
    Read,
    /// Creating rows.
    Create,
    /// Changing rows.
    Update,
    /// Deleting rows.
    Delete,
}

impl Action {
    /// All of them.
    pub const ALL: [Action; 4] = [Action::Read, Action::Create, Action::Update, Action::Delete];
    /// Those that change something.
    pub const WRITES: [Action; 3] = [Action::Create, Action::Update, Action::Delete];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Action::Read => "read",
            Action::Create => "create",
            Action::Update => "update",
            Action::Delete => "delete",
        }
    }
}

/// A role as the project file states it.
#[derive(Debug, Clone, PartialEq)]
pub struct RoleEdit {
    /// What it is for.
    pub description: Option<String>,
    /// Roles whose grants it takes over where it states none itself.
    pub include: Vec<String>,
    /// What one request of it may cost.
    pub limits: Limits,
    /// Grants, by type and action.
    pub grants: IndexMap<(String, Action), GrantEdit>,
    /// Where in the file.
    pub place: Place,
}

/// `[role.NAME.TYPE.ACTION]`.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct GrantEdit {
    /// Which fields.
    pub fields: Option<Fields>,
    /// Which rows; absent, all.
    pub rows: Option<RuleText>,
    /// What must be true of a row as it is after the change.
    pub check: Option<RuleText>,
    /// Fields that are set whatever the caller says.
    pub fixed: IndexMap<String, RuleText>,
    /// Fields that show a value only where a rule is true.
    pub masks: IndexMap<String, RuleText>,
    /// The most rows of one page.
    pub max_page: Option<u32>,
    /// May rows be counted and summed up?
    pub count: bool,
    /// May it delete what takes rows of other types along, which it may not touch itself?
    pub cascade: bool,
    /// Where in the file.
    pub place: Place,
}

/// The fields of a grant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fields {
    /// Whatever there is, also what is added later.
    All,
    /// These, each with its place.
    Named(Vec<String>),
}

/// A rule's text and where its first character stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleText {
    /// The rule, in CEL.
    pub text: String,
    /// Where it begins.
    pub place: Place,
    /// Is it in the file letter by letter, without escapes, so that places in it are places in the file?
    pub verbatim: bool,
}

impl RuleText {
    /// The place of a character, counted from 0.
    pub fn place_of(&self, offset: usize) -> Place {
        let before: String = self.text.chars().take(offset).collect();
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |last| last.chars().count()) + 1;
        self.place_at(line, column)
    }

    /// The place of a line and column of the rule, counted from 1.
    pub fn place_at(&self, line: usize, column: usize) -> Place {
        if !self.verbatim || self.place.line == 0 {
            return self.place;
        }
        let (line, column) = (line.max(1), column.max(1));
        let first = if line == 1 { self.place.column - 1 } else { 0 };
        Place { line: self.place.line + line - 1, column: first + column, ..self.place }
    }
}

/// Settings of a role that are not types.
const SETTINGS: &[&str] = &["description", "include", "limits"];

pub(super) fn read_roles(reader: &mut Reader<'_>, root: &Section, limits: &Limits) -> IndexMap<String, RoleEdit> {
    let Some(section) = reader.section(root, "role") else { return IndexMap::new() };
    let mut roles = IndexMap::new();
    for (name, section) in reader.named_sections(&section) {
        if name == OWNER {
            let text = format!("`{OWNER}` is built in and sees everything; choose another name for a role");
            reader.mistake(section.place, text);
        } else if !is_plain_name(&name) {
            let text = format!("`{name}` is not a name of a role: small letters, digits and `_`");
            reader.mistake(section.place, text);
        }
        roles.insert(name, read_role(reader, &section, limits));
    }
    for (name, role) in &roles {
        for included in &role.include {
            if !roles.contains_key(included) {
                let hint = crate::suggest::did_you_mean(included, roles.keys().map(String::as_str));
                reader.mistake(role.place, format!("role `{name}` includes `{included}`, which is not a role{hint}"));
            }
        }
    }
    roles
}

fn read_role(reader: &mut Reader<'_>, section: &Section, project: &Limits) -> RoleEdit {
    let mut grants = IndexMap::new();
    let types: Vec<String> = section.keys().filter(|key| !SETTINGS.contains(key)).map(str::to_owned).collect();
    for name in types {
        let Some(actions) = reader.section(section, &name) else { continue };
        reader.only(&actions, &Action::ALL.map(Action::word));
        for action in Action::ALL {
            if let Some(grant) = reader.section(&actions, action.word()) {
                grants.insert((name.clone(), action), read_grant(reader, &grant, action));
            }
        }
    }
    let limits = match reader.section(section, "limits") {
        Some(section) => {
            let limits = read_limits(reader, &section, project);
            if let Some((name, own, most)) = limits.looser_than(project) {
                let text = format!("`{name}` of a role only tightens the project's, which is {most}; found {own}");
                reader.mistake_at(&section, name, text);
            }
            limits
        }
        None => *project,
    };
    RoleEdit {
        description: reader.text(section, "description"),
        include: reader.texts(section, "include"),
        limits,
        grants,
        place: section.place,
    }
}

fn read_grant(reader: &mut Reader<'_>, section: &Section, action: Action) -> GrantEdit {
    let known: &[&str] = match action {
        Action::Read => &["fields", "rows", "masks", "max_page", "count"],
        Action::Create => &["fields", "check", "fixed"],
        Action::Update => &["fields", "rows", "check", "fixed"],
        Action::Delete => &["rows", "cascade"],
    };
    reader.only(section, known);
    let fields = read_fields(reader, section);
    if action != Action::Delete && !section.has("fields") {
        reader.missing(section, "fields", "the fields it is about, or \"all\" for whatever there is and will be");
    }
    let max_page = reader.number(section, "max_page", 1, 100_000).map(super::reader::as_u32);
    GrantEdit {
        fields,
        rows: reader.rule(section, "rows"),
        check: reader.rule(section, "check"),
        fixed: reader.rules(section, "fixed"),
        masks: reader.rules(section, "masks"),
        max_page,
        count: !section.has("count") || reader.flag(section, "count"),
        cascade: reader.flag(section, "cascade"),
        place: section.place,
    }
}

fn read_fields(reader: &mut Reader<'_>, section: &Section) -> Option<Fields> {
    if !section.has("fields") {
        return None;
    }
    if section.is_text("fields") {
        return match reader.text(section, "fields").as_deref() {
            Some("all") => Some(Fields::All),
            other => {
                let text =
                    format!("`fields` expects a list of fields, or \"all\", found {:?}", other.unwrap_or_default());
                reader.mistake_at(section, "fields", text);
                None
            }
        };
    }
    Some(Fields::Named(reader.texts(section, "fields")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::project::read;

    fn mistakes(text: &str) -> Vec<(usize, String)> {
        let text = format!("[source.main]\nurl = \"sqlite:huts.db\"\n{text}");
        let found = read(&text, &|_| None).unwrap_err();
        found.into_iter().map(|mistake| (mistake.place.line - 2, mistake.text)).collect()
    }

    #[test]
    fn what_a_role_cannot_say_is_told_with_its_line() {
        let found = mistakes(
            "[role.owner]\n[role.Hiker.Hut.reed]\n[role.hiker.Hut.read]\nrows = \"true\"\ncheck = \"true\"\n\
             [role.hiker.Hut.delete]\nfields = [\"id\"]\n[role.warden]\ninclude = [\"hikers\"]\n\
             [role.warden.Hut.read]\nfields = \"some\"\n",
        );
        let lines: Vec<usize> = found.iter().map(|(line, _)| *line).collect();
        assert_eq!(lines, [1, 2, 2, 3, 5, 7, 8, 11], "{found:#?}");
        assert!(found[2].1.contains("did you mean `read`?") || found[1].1.contains("did you mean `read`?"));
        assert!(found[6].1.contains("did you mean"), "{found:#?}");
    }

    #[test]
    fn limits_of_a_role_tighten_the_projects() {
        let text = "[source.main]\nurl = \"sqlite:h.db\"\n[role.a.limits]\npage = 20\ntime_ms = 100\n";
        let limits = read(text, &|_| None).unwrap().roles["a"].limits;
        assert_eq!((limits.page, limits.default_page, limits.time_ms, limits.list), (20, 20, 100, 1_000));
        let found = mistakes("[role.a.limits]\ntime_ms = 60000\n");
        assert!(found[0].1.contains("which is 10000; found 60000"), "{found:#?}");
    }

    #[test]
    fn places_in_a_rule_are_places_in_the_file() {
        let text = "[source.main]\nurl = \"sqlite:h.db\"\n[role.a.Hut.delete]\nrows = '''\nrow.x == 1\n&& row.y'''\n";
        let project = read(text, &|_| None).unwrap();
        let rule = project.roles["a"].grants[0].rows.clone().unwrap();
        assert_eq!(rule.text, "row.x == 1\n&& row.y");
        assert_eq!(rule.place_of(0), Place { line: 5, column: 1, ..Place::default() });
        assert_eq!(rule.place_of(14), Place { line: 6, column: 4, ..Place::default() });
        let text = "[source.main]\nurl = \"sqlite:h.db\"\n[role.a.Hut.delete]\nrows = \"row.x\"\n";
        let project = read(text, &|_| None).unwrap();
        let rule = project.roles["a"].grants[0].rows.clone().unwrap();
        assert_eq!(rule.place_of(4), Place { line: 4, column: 13, ..Place::default() });
    }
}
