//! What tells the objects of an answer apart, for the caches of clients.

use apollo_compiler::schema::ExtendedType;
use serde_json::{Map, Value as Json};

use super::ValidSchema;
use crate::access::View;
use crate::model::GLOBAL_ID;

/// For each object type of a role's schema the fields that make its key, or null: what has none belongs to what it is part of, and is
/// not to be mixed up with others that look like it.
pub fn cache_keys(view: &View, schema: &ValidSchema) -> Json {
    let model = view.model();
    let fields = |name: &str| -> Option<Vec<&str>> {
        let (id, _) = view.types().find(|(id, _)| model.types[*id].name == name)?;
        let t = &model.types[id];
        if t.global_key(model).is_some() {
            return Some(vec![GLOBAL_ID]);
        }
        let key = view.keys(id).find(|key| key.total)?;
        key.columns.iter().map(|column| t.columns[*column].field.as_deref()).collect()
    };
    let is_meant = |name: &str, found: &ExtendedType| {
        matches!(found, ExtendedType::Object(_)) && !name.starts_with("__") && !["Query", "Mutation"].contains(&name)
    };
    let types = schema.types.iter().filter(|(name, found)| is_meant(name, found));
    let mut keys: Vec<(String, Json)> = types.map(|(name, _)| (name.to_string(), fields(name).into())).collect();
    keys.sort_by(|one, other| one.0.cmp(&other.0));
    Json::Object(keys.into_iter().collect::<Map<String, Json>>())
}
