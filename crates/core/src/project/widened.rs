//! What a project file grants that another one did not: told when one takes the place of the other while they are served.

use super::{Fields, GrantEdit, Project, RoleEdit, RuleText};

/// What the grants of a project allow that those of the one before did not, or may not have: by the text of rules, not by what they
/// come to.
pub fn widened(before: &Project, after: &Project) -> Vec<String> {
    let mut found = Vec::new();
    for (name, role) in &after.roles {
        let Some(known) = before.roles.get(name) else {
            found.push(format!("there is a role `{name}`"));
            continue;
        };
        found.extend(of_role(known, role).into_iter().map(|text| format!("role `{name}`: {text}")));
    }
    found
}

fn of_role(before: &RoleEdit, after: &RoleEdit) -> Vec<String> {
    let mut found = Vec::new();
    for included in after.include.iter().filter(|included| !before.include.contains(included)) {
        found.push(format!("includes `{included}`"));
    }
    for ((of, action), grant) in &after.grants {
        let what = format!("`{of}.{}`", action.word());
        match before.grants.get(&(of.clone(), *action)) {
            None => found.push(format!("{what} is granted")),
            Some(known) => found.extend(of_grant(known, grant).into_iter().map(|text| format!("{what} {text}"))),
        }
    }
    // Where a grant of its own goes, that of an included role takes its place.
    for (of, action) in
        before.grants.keys().filter(|pair| !after.include.is_empty() && !after.grants.contains_key(*pair))
    {
        found.push(format!("`{of}.{}` is what included roles grant", action.word()));
    }
    found
}

fn of_grant(before: &GrantEdit, after: &GrantEdit) -> Vec<String> {
    let mut found = Vec::new();
    match (&before.fields, &after.fields) {
        (Some(Fields::All), _) | (_, None) => {}
        (_, Some(Fields::All)) => found.push("is of all fields".to_owned()),
        (before, Some(Fields::Named(named))) => {
            let known = match before {
                Some(Fields::Named(known)) => known.as_slice(),
                Some(Fields::All) | None => &[],
            };
            let new: Vec<String> =
                named.iter().filter(|name| !known.contains(name)).map(|name| format!("`{name}`")).collect();
            if !new.is_empty() {
                found.push(format!("is of {}, too", new.join(", ")));
            }
        }
    }
    let rules = [("rows", &before.rows, &after.rows), ("check", &before.check, &after.check)];
    for (name, before, after) in rules {
        found.extend(of_rule(name, before.as_ref(), after.as_ref()));
    }
    for (field, mask) in &before.masks {
        found.extend(of_rule(&format!("mask of `{field}`"), Some(mask), after.masks.get(field)));
    }
    for (field, value) in &before.fixed {
        found.extend(of_rule(&format!("fixed value of `{field}`"), Some(value), after.fixed.get(field)));
    }
    if after.count && !before.count {
        found.push("may count".to_owned());
    }
    if after.cascade && !before.cascade {
        found.push("may delete what hangs on its rows".to_owned());
    }
    found
}

fn of_rule(name: &str, before: Option<&RuleText>, after: Option<&RuleText>) -> Option<String> {
    match (before, after) {
        (None, _) => None,
        (Some(_), None) => Some(format!("has no {name} any more")),
        (Some(before), Some(after)) if before.text == after.text => None,
        (Some(_), Some(_)) => Some(format!("has another {name}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("fields = [\"a\"]\nrows = \"row.a == 1\"", "fields = [\"a\"]", &["has no rows any more"])]
    #[case("fields = [\"a\"]", "fields = [\"a\", \"b\"]", &["is of `b`, too"])]
    #[case("fields = [\"a\"]", "fields = \"all\"", &["is of all fields"])]
    #[case("fields = \"all\"", "fields = [\"a\"]\nrows = \"row.a == 1\"", &[])]
    #[case("fields = [\"a\"]\nmasks = { a = \"row.a == 1\" }", "fields = [\"a\"]", &["has no mask of `a` any more"])]
    fn what_is_wider_is_told(#[case] before: &str, #[case] after: &str, #[case] expected: &[&str]) {
        let project = |grant: &str| {
            let text = format!("[source.main]\nurl = \"sqlite:a.db\"\n[role.member.Note.read]\n{grant}\n");
            crate::project::read(&text, &|_| None).unwrap()
        };
        let expected: Vec<String> = expected.iter().map(|text| format!("role `member`: `Note.read` {text}")).collect();
        assert_eq!(widened(&project(before), &project(after)), expected);
    }
}
