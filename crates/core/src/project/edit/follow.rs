//! Grants follow names: what is called otherwise after an edit is called so in the roles, too.

use toml_edit::{DocumentMut, Item, TableLike, Value};

use super::EditError;

/// What of a model is called otherwise.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Renamed {
    /// Types, by the name before: the name now.
    pub types: Vec<(String, String)>,
    /// Fields and links, by the name of their type before: the name before and the name now. Those inside JSON are called by the
    /// fields that lead to them, with dots between.
    pub fields: Vec<(String, String, String)>,
}

impl Renamed {
    /// Is everything called as before?
    pub fn is_empty(&self) -> bool {
        self.types.is_empty() && self.fields.is_empty()
    }

    fn field<'n>(&'n self, of: &str, name: &'n str) -> &'n str {
        let found = self.fields.iter().find(|(t, before, _)| t == of && before == name);
        found.map_or(name, |(_, _, now)| now)
    }
}

/// The file's text with the names of types and fields in the roles as they are now. `mend` gives a rule about rows of a type, by the
/// name that it had, as it has to be now.
///
/// # Errors
/// Where the text is not TOML.
pub fn follow(text: &str, renamed: &Renamed, mend: &dyn Fn(&str, &str) -> String) -> Result<String, EditError> {
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| EditError(format!("not TOML: {}", error.message())))?;
    let roles = document.get_mut("role").and_then(Item::as_table_like_mut);
    for (_, role) in roles.into_iter().flat_map(TableLike::iter_mut) {
        let Some(role) = role.as_table_like_mut() else { continue };
        for (of, grants) in role.iter_mut() {
            let Some(grants) = grants.as_table_like_mut() else { continue };
            for (_, grant) in grants.iter_mut() {
                if let Some(grant) = grant.as_table_like_mut() {
                    in_grant(grant, &of, renamed, mend);
                }
            }
        }
        for (before, now) in &renamed.types {
            rename_key(role, before, now);
        }
    }
    Ok(document.to_string())
}

fn in_grant(grant: &mut dyn TableLike, of: &str, renamed: &Renamed, mend: &dyn Fn(&str, &str) -> String) {
    if let Some(fields) = grant.get_mut("fields").and_then(Item::as_array_mut) {
        for field in fields.iter_mut() {
            let now = field.as_str().map(|name| renamed.field(of, name).to_owned());
            replace(field, now);
        }
    }
    for key in ["rows", "check"] {
        if let Some(rule) = grant.get_mut(key).and_then(Item::as_value_mut) {
            let now = rule.as_str().map(|rule| mend(of, rule));
            replace(rule, now);
        }
    }
    for key in ["fixed", "masks"] {
        let Some(rules) = grant.get_mut(key).and_then(Item::as_table_like_mut) else { continue };
        for (_, rule) in rules.iter_mut() {
            if let Some(rule) = rule.as_value_mut() {
                let now = rule.as_str().map(|rule| mend(of, rule));
                replace(rule, now);
            }
        }
        for (t, before, now) in &renamed.fields {
            if t == of {
                rename_key(rules, before, now);
            }
        }
    }
}

/// Another text in the place of one, with what stands around it.
fn replace(value: &mut Value, now: Option<String>) {
    if let Some(now) = now.filter(|now| value.as_str() != Some(now)) {
        let decor = value.decor().clone();
        *value = now.into();
        *value.decor_mut() = decor;
    }
}

/// Another name for a key, in the same place.
fn rename_key(table: &mut dyn TableLike, before: &str, now: &str) {
    if before == now || !table.contains_key(before) || table.contains_key(now) {
        return;
    }
    // Taken out and put in again one after the other: the order stays.
    let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
    for key in keys {
        let decor = table.key(&key).map(|key| (key.leaf_decor().clone(), key.dotted_decor().clone()));
        let Some(item) = table.remove(&key) else { continue };
        let name = if key == before { now } else { &key };
        table.insert(name, item);
        if let (Some((leaf, dotted)), Some(mut key)) = (decor, table.key_mut(name)) {
            *key.leaf_decor_mut() = leaf;
            *key.dotted_decor_mut() = dotted;
        }
    }
}
