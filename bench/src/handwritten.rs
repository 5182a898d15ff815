//! The hand-written server: what a developer would otherwise write, a general GraphQL server library with batched
//! loaders, on PostgreSQL. It answers the three-level ask and the one by key.

use std::collections::HashMap;
use std::sync::Arc;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use async_graphql::dataloader::{DataLoader, Loader};
use async_graphql::{
    ComplexObject, Context, EmptyMutation, EmptySubscription, InputObject, Object, Request, Schema, SimpleObject,
};
use deadpool_postgres::{Manager, ManagerConfig, Pool, RecyclingMethod, Runtime};
use puente_service::ProjectFolder;
use tokio_postgres::NoTls;

use crate::{READERS, report};

/// An error that every waiting field gets.
#[derive(Debug, Clone)]
struct Failed(Arc<str>);

impl std::fmt::Display for Failed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

#[derive(Clone, SimpleObject)]
#[graphql(complex)]
struct Hut {
    #[graphql(skip)]
    id: i32,
    #[graphql(skip)]
    region_id: i32,
    name: String,
    altitude: i32,
    code: String,
}

#[derive(Clone, SimpleObject)]
struct Region {
    name: String,
}

#[derive(Clone, SimpleObject)]
struct Hiker {
    name: String,
}

#[derive(Clone, SimpleObject)]
#[graphql(complex)]
struct Booking {
    #[graphql(skip)]
    hiker_id: i32,
    starts_on: String,
}

#[derive(SimpleObject)]
struct Huts {
    nodes: Vec<Hut>,
}

#[derive(SimpleObject)]
struct Bookings {
    nodes: Vec<Booking>,
}

#[derive(InputObject)]
struct HutKey {
    id: i32,
}

struct Database(Pool);

/// The first bookings of a hut.
#[derive(Clone, PartialEq, Eq, Hash)]
struct BookingsOf {
    hut: i32,
    first: i64,
}
#[derive(Clone, PartialEq, Eq, Hash)]
struct RegionId(i32);
#[derive(Clone, PartialEq, Eq, Hash)]
struct HikerId(i32);

impl Database {
    async fn rows(
        &self,
        text: &str,
        values: &[&(dyn tokio_postgres::types::ToSql + Sync)],
    ) -> Result<Vec<tokio_postgres::Row>, Failed> {
        let failed = |error: &dyn std::fmt::Display| Failed(error.to_string().into());
        let client = self.0.get().await.map_err(|error| failed(&error))?;
        let statement = client.prepare_cached(text).await.map_err(|error| failed(&error))?;
        client.query(&statement, values).await.map_err(|error| failed(&error))
    }
}

impl Loader<RegionId> for Database {
    type Value = Region;
    type Error = Failed;

    async fn load(&self, keys: &[RegionId]) -> Result<HashMap<RegionId, Region>, Self::Error> {
        let ids: Vec<i32> = keys.iter().map(|key| key.0).collect();
        let rows = self.rows("select id, name from regions where id = any($1)", &[&ids]).await?;
        Ok(rows.iter().map(|row| (RegionId(row.get(0)), Region { name: row.get(1) })).collect())
    }
}

impl Loader<HikerId> for Database {
    type Value = Hiker;
    type Error = Failed;

    async fn load(&self, keys: &[HikerId]) -> Result<HashMap<HikerId, Hiker>, Self::Error> {
        let ids: Vec<i32> = keys.iter().map(|key| key.0).collect();
        let rows = self.rows("select id, name from hikers where id = any($1)", &[&ids]).await?;
        Ok(rows.iter().map(|row| (HikerId(row.get(0)), Hiker { name: row.get(1) })).collect())
    }
}

impl Loader<BookingsOf> for Database {
    type Value = Vec<Booking>;
    type Error = Failed;

    async fn load(&self, keys: &[BookingsOf]) -> Result<HashMap<BookingsOf, Vec<Booking>>, Self::Error> {
        let ids: Vec<i32> = keys.iter().map(|key| key.hut).collect();
        let first = keys.iter().map(|key| key.first).max().unwrap_or(0);
        let text = "select h.id, b.starts_on::text, b.hiker_id from unnest($1::int4[]) as h(id)
            cross join lateral (select * from bookings where hut_id = h.id order by id limit $2) as b order by h.id, b.id";
        let mut found: HashMap<BookingsOf, Vec<Booking>> = keys.iter().map(|key| (key.clone(), Vec::new())).collect();
        for row in self.rows(text, &[&ids, &first]).await? {
            let hut: i32 = row.get(0);
            for (key, bookings) in &mut found {
                if key.hut == hut && (bookings.len() as u64) < key.first.unsigned_abs() {
                    bookings.push(Booking { starts_on: row.get(1), hiker_id: row.get(2) });
                }
            }
        }
        Ok(found)
    }
}

fn loader<'c>(context: &Context<'c>) -> &'c DataLoader<Database> {
    context.data_unchecked()
}

#[ComplexObject]
impl Hut {
    async fn region(&self, context: &Context<'_>) -> Result<Option<Region>, Failed> {
        loader(context).load_one(RegionId(self.region_id)).await
    }

    async fn bookings(&self, context: &Context<'_>, first: i64) -> Result<Bookings, Failed> {
        let nodes = loader(context).load_one(BookingsOf { hut: self.id, first }).await?;
        Ok(Bookings { nodes: nodes.unwrap_or_default() })
    }
}

#[ComplexObject]
impl Booking {
    async fn hiker(&self, context: &Context<'_>) -> Result<Option<Hiker>, Failed> {
        loader(context).load_one(HikerId(self.hiker_id)).await
    }
}

struct Query;

const HUT: &str = "select id, region_id, name, altitude::int4, code from huts";

fn hut(row: &tokio_postgres::Row) -> Hut {
    Hut { id: row.get(0), region_id: row.get(1), name: row.get(2), altitude: row.get(3), code: row.get(4) }
}

#[Object]
impl Query {
    async fn huts(&self, context: &Context<'_>, first: i64) -> Result<Huts, Failed> {
        let text = format!("{HUT} order by id limit $1");
        let rows = loader(context).loader().rows(&text, &[&first]).await?;
        Ok(Huts { nodes: rows.iter().map(hut).collect() })
    }

    async fn hut(&self, context: &Context<'_>, key: HutKey) -> Result<Option<Hut>, Failed> {
        let text = format!("{HUT} where id = $1");
        let rows = loader(context).loader().rows(&text, &[&key.id]).await?;
        Ok(rows.first().map(hut))
    }
}

type HutsSchema = Schema<Query, EmptyMutation, EmptySubscription>;

struct Shared {
    key: String,
    schema: HutsSchema,
    pool: Pool,
}

pub(crate) async fn serve(folder: &ProjectFolder, key: &str) {
    puente_service::logging::start();
    let config: tokio_postgres::Config = folder.project.sources[0].url.0.parse().expect("an address");
    let manager = Manager::from_config(config, NoTls, ManagerConfig { recycling_method: RecyclingMethod::Fast });
    let pool = Pool::builder(manager).max_size(READERS * 4).runtime(Runtime::Tokio1).build().expect("a pool");
    let schema = Schema::build(Query, EmptyMutation, EmptySubscription).finish();
    let shared = web::Data::from(Arc::new(Shared { key: format!("Bearer {key}"), schema, pool }));
    let server = HttpServer::new(move || App::new().app_data(shared.clone()).route("/graphql", web::post().to(answer)))
        .workers(2)
        .bind("127.0.0.1:0")
        .expect("a free port");
    report::line(&format!("listening {}", server.addrs()[0]));
    server.run().await.expect("it runs");
}

async fn answer(request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes) -> HttpResponse {
    let start = std::time::Instant::now();
    if request.headers().get(AUTHORIZATION).is_none_or(|value| value.as_bytes() != shared.key.as_bytes()) {
        return HttpResponse::Unauthorized().finish();
    }
    let Ok(ask) = serde_json::from_slice::<Request>(&body) else { return HttpResponse::BadRequest().finish() };
    // Loaders live as long as one request, so that nothing is remembered from one to the next.
    let loader = DataLoader::new(Database(shared.pool.clone()), tokio::task::spawn);
    let response = shared.schema.execute(ask.data(loader)).await;
    let body = serde_json::to_vec(&response).expect("a response");
    tracing::info!(
        target: "handwritten", role = "owner", operation = "", outcome = "ok",
        ms = start.elapsed().as_secs_f64() * 1_000.0, "ask"
    );
    HttpResponse::Ok().content_type("application/graphql-response+json").body(body)
}
