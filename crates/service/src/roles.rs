//! What is kept per role: its view, its schema once it was asked for, and its share of the caches. Schemas of roles are
//! large and many are seldom asked for: they are built on first use, and the least used make room for others.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use prometheus_client::metrics::counter::Counter;
use puente_core::access::{OWNER, Role, Settled, View};
use puente_core::error::Problem;
use puente_core::model::Model;
use puente_core::plan::{Document, Plan, Sealer};
use puente_core::project::Limits;
use puente_core::schema::{self, ValidSchema};
use quick_cache::sync::Cache;
use quick_cache::{Equivalent, Weighter};

use crate::api::Ask;
use crate::metrics::{AskLabels, Metrics};

/// Bytes of parsed documents, and of plans, that one role may hold in the cache.
const CACHE_BYTES_PER_ROLE: u64 = 32 << 20;
/// About how many of them are expected.
const CACHE_ITEMS: usize = 4_096;
/// Views under patterns of claims that one role may hold.
const MOST_PATTERNS: usize = 32;
/// Bytes of schemas that all roles beside the owner may hold.
const SCHEMA_BYTES: usize = 256 << 20;

/// The roles of one API.
#[derive(Debug)]
pub(crate) struct Roles {
    by_name: HashMap<String, RoleApi>,
    shelf: Mutex<Shelf>,
}

/// Whose schemas are there, the one asked for last at the end.
#[derive(Debug, Default)]
struct Shelf {
    roles: Vec<(String, usize)>,
}

/// One role.
#[derive(Debug)]
pub(crate) struct RoleApi {
    view: Arc<View>,
    pub(crate) limits: Limits,
    schema: RwLock<Option<Arc<ValidSchema>>>,
    /// Held while the schema is built, so that it is built once.
    building: Mutex<()>,
    pub(crate) sealer: Sealer,
    settled: Cache<Vec<u8>, Arc<View>>,
    documents: Cache<DocumentKey, (u64, Arc<Document>), Bytes>,
    /// The number of the next document that is parsed.
    next_document: AtomicU64,
    plans: Cache<PlanKey, Arc<Plan>, Bytes>,
    /// Counts the asks that went well, without looking it up by its labels each time.
    pub(crate) answered: Counter,
}

/// A document's text and the operation's name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct DocumentKey {
    text: String,
    operation: Option<String>,
}

/// The same, borrowed from an ask.
#[derive(Debug, Clone, Copy, Hash)]
struct Asked<'a> {
    text: &'a str,
    operation: Option<&'a str>,
}

impl Equivalent<DocumentKey> for Asked<'_> {
    fn equivalent(&self, key: &DocumentKey) -> bool {
        self.text == key.text && self.operation == key.operation.as_deref()
    }
}

/// A parsed document's number, and the shape of its variables and claims.
pub(crate) type PlanKey = (u64, Vec<u8>);

#[derive(Debug, Clone)]
struct Bytes;

impl Weighter<DocumentKey, (u64, Arc<Document>)> for Bytes {
    fn weight(&self, key: &DocumentKey, (_, document): &(u64, Arc<Document>)) -> u64 {
        (document.weight() + key.text.len()) as u64
    }
}

impl Weighter<PlanKey, Arc<Plan>> for Bytes {
    fn weight(&self, key: &PlanKey, plan: &Arc<Plan>) -> u64 {
        (plan.weight() + key.1.len()) as u64
    }
}

impl Roles {
    pub(crate) fn new(model: &Arc<Model>, limits: Limits, roles: Vec<Role>, secret: &[u8], metrics: &Metrics) -> Self {
        let owner = (View::owner(Arc::clone(model)), limits);
        let views = roles.into_iter().map(|role| (role.view, role.limits)).chain([owner]);
        let by_name = views.map(|(view, limits)| (view.role().to_owned(), RoleApi::new(view, limits, secret, metrics)));
        Roles { by_name: by_name.collect(), shelf: Mutex::default() }
    }

    pub(crate) fn get(&self, name: &str) -> Option<&RoleApi> {
        self.by_name.get(name)
    }

    /// A role's schema, built now if it is not there.
    ///
    /// # Errors
    /// `INTERNAL` where it cannot be built.
    pub(crate) fn schema(&self, role: &RoleApi) -> Result<Arc<ValidSchema>, Problem> {
        let known = || role.schema.read().unwrap_or_else(PoisonError::into_inner).clone();
        let schema = match known() {
            Some(schema) => schema,
            None => {
                let _building = role.building.lock().unwrap_or_else(PoisonError::into_inner);
                match known() {
                    Some(schema) => schema,
                    None => {
                        let schema = Arc::new(schema::build(&role.view)?);
                        *role.schema.write().unwrap_or_else(PoisonError::into_inner) = Some(Arc::clone(&schema));
                        schema
                    }
                }
            }
        };
        self.note_use(role);
        Ok(schema)
    }

    /// Notes that a role's schema was used, and drops what was used least once there are too many bytes of them. The
    /// owner's stays: whoever runs the service waits for nothing.
    fn note_use(&self, role: &RoleApi) {
        let name = role.view.role();
        if name == OWNER {
            return;
        }
        let mut shelf = self.shelf.lock().unwrap_or_else(PoisonError::into_inner);
        for least in shelf.take(name, schema::weight(&role.view), SCHEMA_BYTES) {
            if let Some(role) = self.by_name.get(&least) {
                *role.schema.write().unwrap_or_else(PoisonError::into_inner) = None;
                // Its documents hold the schema, too.
                role.documents.clear();
                role.plans.clear();
            }
        }
    }
}

impl Shelf {
    /// Notes that a role's schema of so many bytes is used now; gives the roles whose schemas have to go, so that all
    /// together have at most so many. The one that is used now stays.
    fn take(&mut self, name: &str, bytes: usize, most: usize) -> Vec<String> {
        self.roles.retain(|(known, _)| known != name);
        self.roles.push((name.to_owned(), bytes));
        let mut gone = Vec::new();
        while self.roles.len() > 1 && self.roles.iter().map(|(_, bytes)| bytes).sum::<usize>() > most {
            gone.push(self.roles.remove(0).0);
        }
        gone
    }
}

impl RoleApi {
    fn new(view: View, limits: Limits, secret: &[u8], metrics: &Metrics) -> Self {
        let labels = AskLabels { role: view.role().to_owned(), outcome: "ok".to_owned() };
        RoleApi {
            answered: metrics.asks.get_or_create(&labels).clone(),
            sealer: Sealer::new(secret, view.role()),
            view: Arc::new(view),
            limits,
            schema: RwLock::new(None),
            building: Mutex::new(()),
            settled: Cache::new(MOST_PATTERNS),
            documents: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
            next_document: AtomicU64::new(0),
            plans: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
        }
    }

    /// The role's view, whoever asks.
    pub(crate) fn view(&self) -> &Arc<View> {
        &self.view
    }

    /// The view for what the claims come to.
    pub(crate) fn settled(&self, settled: &Settled) -> Arc<View> {
        if settled.pattern.is_empty() {
            return Arc::clone(&self.view);
        }
        if let Some(view) = self.settled.get(&settled.pattern) {
            return view;
        }
        let view = Arc::new(self.view.settled(&settled.pattern));
        self.settled.insert(settled.pattern.clone(), Arc::clone(&view));
        view
    }

    /// The parsed document of an ask, and its number.
    pub(crate) fn document(
        &self,
        roles: &Roles,
        ask: &Ask,
        metrics: &Metrics,
    ) -> Result<(Arc<Document>, u64), Vec<Problem>> {
        let asked = Asked { text: &ask.document, operation: ask.operation_name.as_deref() };
        if let Some((number, document)) = self.documents.get(&asked) {
            return Ok((document, number));
        }
        metrics.documents_parsed.inc();
        let schema = roles.schema(self).map_err(|problem| vec![problem])?;
        let document = Arc::new(Document::parse(&schema, &ask.document, ask.operation_name.as_deref())?);
        let number = self.next_document.fetch_add(1, Ordering::Relaxed);
        let key = DocumentKey { text: ask.document.clone(), operation: ask.operation_name.clone() };
        self.documents.insert(key, (number, Arc::clone(&document)));
        Ok((document, number))
    }

    /// A plan that was made before.
    pub(crate) fn plan(&self, key: &PlanKey) -> Option<Arc<Plan>> {
        self.plans.get(key)
    }

    /// Keeps a plan.
    pub(crate) fn keep(&self, key: PlanKey, plan: &Arc<Plan>) {
        self.plans.insert(key, Arc::clone(plan));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemas_that_were_used_least_make_room() {
        let mut shelf = Shelf::default();
        assert!(shelf.take("a", 40, 100).is_empty() && shelf.take("b", 40, 100).is_empty());
        assert!(shelf.take("a", 40, 100).is_empty(), "used again");
        assert_eq!(shelf.take("c", 40, 100), ["b"]);
        assert_eq!(shelf.take("huge", 400, 100), ["a", "c"], "the one in use stays");
    }
}
