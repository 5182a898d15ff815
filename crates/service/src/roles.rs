//! What is kept per role: its view, its schema once it was asked for, and its share of the caches. Schemas of roles are
//! large and many are seldom asked for: they are built on first use, and the least used make room for others.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use prometheus_client::metrics::counter::Counter;
use puente_core::access::{OWNER, ResolvedClaims, Role, View};
use puente_core::error::Problem;
use puente_core::model::Model;
use puente_core::plan::{Document, Sealer};
use puente_core::project::Limits;
use puente_core::schema::{self, ValidSchema};
use quick_cache::sync::Cache;
use quick_cache::{Equivalent, Weighter};

use crate::api::Ask;
use crate::metrics::{AskLabels, Metrics};
use crate::persisted::Persisted;
use crate::prepared_plan::PreparedPlan;
use crate::shares::Shares;

/// Bytes of parsed documents, and of plans, that one role may hold in the cache.
const CACHE_BYTES_PER_ROLE: u64 = 12 << 20;
/// About how many of them are expected.
const CACHE_ITEMS: usize = 4_096;
/// Views under patterns of claims that one role may hold.
const MOST_PATTERNS: usize = 32;
/// Bytes of schemas that all roles beside the owner may hold.
const SCHEMA_BYTES: usize = 256 << 20;

/// The roles of one API.
#[derive(Debug)]
pub(crate) struct Roles {
    by_name: HashMap<String, Arc<RoleApi>>,
    /// How many requests there were: the time by which schemas age.
    asks: AtomicU64,
}

/// One role.
#[derive(Debug)]
pub(crate) struct RoleApi {
    view: Arc<View>,
    pub(crate) limits: Limits,
    /// What its callers may ask.
    pub(crate) shares: Shares,
    /// When it was last asked as.
    last_asked: AtomicU64,
    schema: RwLock<Option<Arc<ValidSchema>>>,
    /// Held while the schema is built, so that it is built once.
    building: Mutex<()>,
    pub(crate) sealer: Sealer,
    specialised: Cache<Vec<u8>, Arc<View>>,
    documents: Cache<DocumentKey, (u64, Arc<Document>), Bytes>,
    /// The number of the next document that is parsed.
    next_document: AtomicU64,
    plans: Cache<PlanKey, Arc<PreparedPlan>, Bytes>,
    /// The documents that its callers need not send again.
    pub(crate) persisted: Persisted,
    /// Counts the requests that went well, without looking it up by its labels each time.
    pub(crate) answered: Counter,
}

/// A document's text and the operation's name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct DocumentKey {
    text: String,
    operation: Option<String>,
}

/// The same, borrowed from a request.
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
        (document.weight() + key.text.len() + key.operation.as_ref().map_or(0, String::len)) as u64
    }
}

impl Weighter<PlanKey, Arc<PreparedPlan>> for Bytes {
    fn weight(&self, key: &PlanKey, plan: &Arc<PreparedPlan>) -> u64 {
        (plan.weight() + key.1.len()) as u64
    }
}

impl Roles {
    pub(crate) fn new(model: &Arc<Model>, limits: Limits, roles: Vec<Role>, secret: &[u8], metrics: &Metrics) -> Self {
        let owner = (View::owner(Arc::clone(model)), limits);
        let views = roles.into_iter().map(|role| (role.view, role.limits)).chain([owner]);
        let by_name =
            views.map(|(view, limits)| (view.role().to_owned(), Arc::new(RoleApi::new(view, limits, secret, metrics))));
        Roles { by_name: by_name.collect(), asks: AtomicU64::new(0) }
    }

    /// The names of all, in their order.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        let mut names: Vec<&str> = self.by_name.keys().map(String::as_str).collect();
        names.sort_unstable();
        names.into_iter()
    }

    /// All of them.
    pub(crate) fn all(&self) -> impl Iterator<Item = &Arc<RoleApi>> {
        self.by_name.values()
    }

    pub(crate) fn get(&self, name: &str) -> Option<&Arc<RoleApi>> {
        self.by_name.get(name)
    }

    /// A role that is asked as now.
    pub(crate) fn asked(&self, name: &str) -> Option<&Arc<RoleApi>> {
        let role = self.by_name.get(name)?;
        role.last_asked.store(self.asks.fetch_add(1, Ordering::Relaxed), Ordering::Relaxed);
        Some(role)
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
        self.make_room(role);
        Ok(schema)
    }

    /// Drops the schemas of roles that nobody has asked as for longest, where there are too many bytes of them. That of the one
    /// in use stays, and the owner's: whoever runs the service waits for nothing.
    fn make_room(&self, used: &RoleApi) {
        let is_there = |role: &&Arc<RoleApi>| {
            role.view.role() != OWNER && role.schema.read().unwrap_or_else(PoisonError::into_inner).is_some()
        };
        let there = self.by_name.values().filter(is_there).map(|role| {
            let age =
                if role.view.role() == used.view.role() { u64::MAX } else { role.last_asked.load(Ordering::Relaxed) };
            (role, age, schema::weight(&role.view))
        });
        let there: Vec<(&Arc<RoleApi>, u64, usize)> = there.collect();
        let ages: Vec<(u64, usize)> = there.iter().map(|(_, age, bytes)| (*age, *bytes)).collect();
        for at in oldest(&ages, SCHEMA_BYTES) {
            let role = there[at].0;
            *role.schema.write().unwrap_or_else(PoisonError::into_inner) = None;
            // Its documents hold the schema, too.
            role.documents.clear();
            role.plans.clear();
        }
    }
}

/// Which of some things have to go, the oldest first, so that all together have at most so many bytes; the youngest stays.
fn oldest(ages: &[(u64, usize)], most: usize) -> Vec<usize> {
    let mut order: Vec<usize> = (0..ages.len()).collect();
    order.sort_by_key(|at| ages[*at].0);
    order.pop();
    let mut bytes: usize = ages.iter().map(|(_, bytes)| bytes).sum();
    order.retain(|at| {
        let goes = bytes > most;
        bytes -= if goes { ages[*at].1 } else { 0 };
        goes
    });
    order
}

impl RoleApi {
    fn new(view: View, limits: Limits, secret: &[u8], metrics: &Metrics) -> Self {
        let labels = AskLabels { role: view.role().to_owned(), outcome: "ok".to_owned() };
        RoleApi {
            answered: metrics.asks.get_or_create(&labels).clone(),
            sealer: Sealer::new(secret, view.role()),
            view: Arc::new(view),
            limits,
            shares: Shares::default(),
            last_asked: AtomicU64::new(0),
            schema: RwLock::new(None),
            building: Mutex::new(()),
            specialised: Cache::new(MOST_PATTERNS),
            documents: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
            next_document: AtomicU64::new(0),
            plans: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
            persisted: Persisted::default(),
        }
    }

    /// Is its schema there, or is it still to be built?
    pub(crate) fn has_schema(&self) -> bool {
        self.schema.read().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    /// The role's view, whoever asks.
    pub(crate) fn view(&self) -> &Arc<View> {
        &self.view
    }

    /// The view for what the claims come to.
    pub(crate) fn specialised(&self, claims: &ResolvedClaims) -> Arc<View> {
        if claims.pattern.is_empty() {
            return Arc::clone(&self.view);
        }
        if let Some(view) = self.specialised.get(&claims.pattern) {
            return view;
        }
        let view = Arc::new(self.view.specialise(&claims.pattern));
        self.specialised.insert(claims.pattern.clone(), Arc::clone(&view));
        view
    }

    /// The document of a request that was parsed before, and its number.
    pub(crate) fn known_document(&self, ask: &Ask) -> Option<(u64, Arc<Document>)> {
        self.documents.get(&Asked { text: &ask.document, operation: ask.operation_name.as_deref() })
    }

    /// The parsed document of a request, and its number.
    pub(crate) fn document(
        &self,
        roles: &Roles,
        ask: &Ask,
        metrics: &Metrics,
    ) -> Result<(u64, Arc<Document>), Vec<Problem>> {
        if let Some(known) = self.known_document(ask) {
            return Ok(known);
        }
        metrics.documents_parsed.inc();
        let schema = roles.schema(self).map_err(|problem| vec![problem])?;
        let document = Arc::new(Document::parse(&schema, &ask.document, ask.operation_name.as_deref())?);
        let number = self.next_document.fetch_add(1, Ordering::Relaxed);
        let key = DocumentKey { text: ask.document.clone(), operation: ask.operation_name.clone() };
        self.documents.insert(key, (number, Arc::clone(&document)));
        Ok((number, document))
    }

    /// Bytes that are kept for it: of documents, of plans, of texts known by their hashes.
    pub(crate) fn cached_bytes(&self) -> [(&'static str, u64); 3] {
        let (documents, plans) = (self.documents.weight(), self.plans.weight());
        [("documents", documents), ("plans", plans), ("persisted", self.persisted.weight())]
    }

    /// A plan that was made before.
    pub(crate) fn plan(&self, key: &PlanKey) -> Option<Arc<PreparedPlan>> {
        self.plans.get(key)
    }

    /// Keeps a plan.
    pub(crate) fn keep(&self, key: PlanKey, plan: &Arc<PreparedPlan>) {
        self.plans.insert(key, Arc::clone(plan));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemas_that_were_used_least_make_room() {
        assert!(oldest(&[(7, 40), (3, 40)], 100).is_empty());
        assert_eq!(oldest(&[(7, 40), (3, 40), (5, 40)], 100), [1]);
        assert_eq!(oldest(&[(7, 40), (3, 40), (u64::MAX, 400)], 100), [1, 0], "the one in use stays");
    }
}
