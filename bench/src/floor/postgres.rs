//! PostgreSQL by hand: one statement per ask with lateral joins, rows read by type, on the same pool as Puente's.

use deadpool_postgres::{Manager, ManagerConfig, Object, Pool, RecyclingMethod, Runtime};
use tokio_postgres::{NoTls, Row};

use super::json::{integer, nullable, separate, status, string};
use super::reports::{REPORTS, Reports, incidents_of};
use crate::READERS;
use crate::asks::{Ask, WARDEN};

/// As many sessions as Puente has, on threads of their own.
pub(crate) struct Sessions {
    pool: Pool,
    workers: tokio::runtime::Runtime,
}

impl Sessions {
    pub(super) fn open(url: &str) -> Self {
        let config: tokio_postgres::Config = url.parse().expect("an address");
        let manager = Manager::from_config(config, NoTls, ManagerConfig { recycling_method: RecyclingMethod::Fast });
        let pool = Pool::builder(manager).max_size(READERS * 4).runtime(Runtime::Tokio1).build().expect("a pool");
        let workers = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
        Sessions { pool, workers: workers.expect("threads") }
    }

    pub(super) async fn answer(&self, ask: Ask) -> Vec<u8> {
        let pool = self.pool.clone();
        let work = self.workers.spawn(async move {
            let client = pool.get().await.expect("a session");
            read(&client, ask).await.expect("the statement runs")
        });
        work.await.expect("an answer")
    }
}

async fn rows(client: &Object, text: &str) -> Result<Vec<Row>, tokio_postgres::Error> {
    let statement = client.prepare_cached(text).await?;
    client.query(&statement, &[]).await
}

async fn read(client: &Object, ask: Ask) -> Result<Vec<u8>, tokio_postgres::Error> {
    match ask {
        Ask::ByKey => by_key(client).await,
        Ask::Page => page(client).await,
        Ask::ThreeLevels => three_levels(client).await,
        Ask::AsWarden => as_warden(client).await,
        Ask::FiveLevels => five_levels(client).await,
        Ask::FilterThroughLinks => filter(client).await,
        Ask::ManyToMany => many_to_many(client).await,
        Ask::InsideJson => reports(client).await,
        Ask::ByMember => by_member(client).await,
    }
}

async fn by_key(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let statement = client.prepare_cached("select name, altitude::int4, code from huts where id = $1").await?;
    let row = client.query_one(&statement, &[&7_i32]).await?;
    let mut out = Vec::with_capacity(128);
    out.extend_from_slice(b"{\"data\":{\"hut\":{\"name\":");
    string(&mut out, row.get(0));
    out.extend_from_slice(b",\"altitude\":");
    integer(&mut out, row.get::<_, i32>(1).into());
    out.extend_from_slice(b",\"code\":");
    string(&mut out, row.get(2));
    out.extend_from_slice(b"}}}");
    Ok(out)
}

async fn by_member(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text =
        "select id from incidents where (report -> 'weather' ->> 'snow')::numeric = $1::int8 order by id limit 20";
    let statement = client.prepare_cached(text).await?;
    let ids: Vec<i64> =
        client.query(&statement, &[&100_i64]).await?.iter().map(|row| row.get::<_, i32>(0).into()).collect();
    Ok(incidents_of(&ids))
}

async fn page(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select id, starts_on::text, nights, status::text, price::text from bookings order by id limit 50";
    let mut out = Vec::with_capacity(8 << 10);
    out.extend_from_slice(b"{\"data\":{\"bookings\":{\"nodes\":[");
    let mut first = true;
    for row in rows(client, text).await? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, row.get::<_, i32>(0).into());
        out.extend_from_slice(b",\"startsOn\":");
        string(&mut out, row.get(1));
        out.extend_from_slice(b",\"nights\":");
        integer(&mut out, row.get::<_, i32>(2).into());
        out.extend_from_slice(b",\"status\":");
        status(&mut out, row.get(3));
        out.extend_from_slice(b",\"price\":");
        nullable(&mut out, row.get(4));
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn three_levels(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select h.id, h.name, h.region, b.starts_on, b.name
        from (select h.id, h.name, r.name as region from huts as h left join regions as r on r.id = h.region_id
              order by h.id limit 20) as h
        left join lateral (select b.id, b.starts_on::text, k.name from bookings as b
              left join hikers as k on k.id = b.hiker_id where b.hut_id = h.id order by b.id limit 10) as b on true
        order by h.id, b.id";
    Ok(levels(&rows(client, text).await?))
}

async fn as_warden(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select h.id, h.name, h.region, b.starts_on, b.name
        from (select h.id, h.name, r.name as region from huts as h left join regions as r on r.id = h.region_id
                and exists (select 1 from huts as o where o.region_id = r.id and o.warden_id = $1)
              where h.warden_id = $1 order by h.id limit 20) as h
        left join lateral (select b.id, b.starts_on::text, k.name from bookings as b
              left join huts as bh on bh.id = b.hut_id
              left join hikers as k on k.id = b.hiker_id and exists (select 1 from bookings as o
                left join huts as oh on oh.id = o.hut_id where o.hiker_id = k.id and oh.warden_id = $1)
              where b.hut_id = h.id and bh.warden_id = $1 order by b.id limit 10) as b on true
        order by h.id, b.id";
    let statement = client.prepare_cached(text).await?;
    Ok(levels(&client.query(&statement, &[&WARDEN]).await?))
}

fn levels(rows: &[Row]) -> Vec<u8> {
    let mut out = Vec::with_capacity(32 << 10);
    out.extend_from_slice(b"{\"data\":{\"huts\":{\"nodes\":[");
    let mut last: Option<i32> = None;
    let mut first = true;
    for row in rows {
        let id: i32 = row.get(0);
        if last != Some(id) {
            if last.is_some() {
                out.extend_from_slice(b"]}},");
            }
            last = Some(id);
            out.extend_from_slice(b"{\"name\":");
            string(&mut out, row.get(1));
            out.extend_from_slice(b",\"region\":{\"name\":");
            string(&mut out, row.get(2));
            out.extend_from_slice(b"},\"bookings\":{\"nodes\":[");
            first = true;
        }
        if let Some(starts_on) = row.get::<_, Option<&str>>(3) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"startsOn\":");
            string(&mut out, starts_on);
            out.extend_from_slice(b",\"hiker\":{\"name\":");
            string(&mut out, row.get(4));
            out.extend_from_slice(b"}}");
        }
    }
    out.extend_from_slice(if last.is_some() { b"]}}]}}}" } else { b"]}}}" });
    out
}

async fn five_levels(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select r.id, r.name, h.id, h.name, b.id, b.starts_on, b.name, g.title
        from (select id, name from regions order by id limit 4) as r
        left join lateral (select id, name from huts where region_id = r.id order by id limit 5) as h on true
        left join lateral (select b.id, b.starts_on::text, k.name, k.id as hiker from bookings as b
              left join hikers as k on k.id = b.hiker_id where b.hut_id = h.id order by b.id limit 5) as b on true
        left join lateral (select g.id, g.title from hiker_badges as j join badges as g on g.id = j.badge_id
              where j.hiker_id = b.hiker order by g.id limit 3) as g on true
        order by r.id, h.id, b.id, g.id";
    let rows = rows(client, text).await?;
    let mut out = Vec::with_capacity(32 << 10);
    out.extend_from_slice(b"{\"data\":{\"regions\":{\"nodes\":[");
    let (mut region, mut hut, mut booking): (Option<i32>, Option<i32>, Option<i32>) = (None, None, None);
    let mut first_badge = true;
    for row in &rows {
        let (this_region, this_hut, this_booking): (i32, Option<i32>, Option<i32>) =
            (row.get(0), row.get(2), row.get(4));
        let new_region = region != Some(this_region);
        let new_hut = new_region || hut != this_hut;
        let new_booking = new_hut || booking != this_booking;
        if new_booking && booking.is_some() {
            out.extend_from_slice(b"]}}}");
        }
        if new_hut && hut.is_some() {
            out.extend_from_slice(b"]}}");
        }
        if new_region {
            out.extend_from_slice(if region.is_some() { b"]}}," } else { b"" });
            out.extend_from_slice(b"{\"name\":");
            string(&mut out, row.get(1));
            out.extend_from_slice(b",\"huts\":{\"nodes\":[");
        }
        if new_hut && this_hut.is_some() {
            out.extend_from_slice(if new_region { b"" } else { b"," });
            out.extend_from_slice(b"{\"name\":");
            string(&mut out, row.get(3));
            out.extend_from_slice(b",\"bookings\":{\"nodes\":[");
        }
        if new_booking && this_booking.is_some() {
            out.extend_from_slice(if new_hut { b"" } else { b"," });
            out.extend_from_slice(b"{\"startsOn\":");
            string(&mut out, row.get(5));
            out.extend_from_slice(b",\"hiker\":{\"name\":");
            string(&mut out, row.get(6));
            out.extend_from_slice(b",\"badges\":{\"nodes\":[");
            first_badge = true;
        }
        if let Some(title) = row.get::<_, Option<&str>>(7) {
            separate(&mut out, &mut first_badge);
            out.extend_from_slice(b"{\"title\":");
            string(&mut out, title);
            out.push(b'}');
        }
        (region, hut, booking) = (Some(this_region), this_hut, this_booking);
    }
    out.extend_from_slice(if booking.is_some() { b"]}}}" } else { b"" });
    out.extend_from_slice(if hut.is_some() { b"]}}" } else { b"" });
    out.extend_from_slice(if region.is_some() { b"]}}" } else { b"" });
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn filter(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select b.id, b.starts_on::text from bookings as b join huts as h on h.id = b.hut_id
        join hikers as k on k.id = b.hiker_id
        where h.altitude > 2500 and starts_with(k.name, 'A') order by b.id limit 20";
    let mut out = Vec::with_capacity(2 << 10);
    out.extend_from_slice(b"{\"data\":{\"bookings\":{\"nodes\":[");
    let mut first = true;
    for row in rows(client, text).await? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, row.get::<_, i32>(0).into());
        out.extend_from_slice(b",\"startsOn\":");
        string(&mut out, row.get(1));
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn reports(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let mut reports = Reports::new();
    for row in rows(client, &REPORTS.replace("report from", "report::text from")).await? {
        reports.add(row.get::<_, &str>(0).as_bytes());
    }
    Ok(reports.end())
}

async fn many_to_many(client: &Object) -> Result<Vec<u8>, tokio_postgres::Error> {
    let text = "select t.id, t.name, t.huts, h.position, h.name
        from (select id, name, (select count(*) from trail_huts as j where j.trail_id = t.id) as huts
              from trails as t order by id limit 10) as t
        left join lateral (select h.id, j.position, h.name from trail_huts as j join huts as h on h.id = j.hut_id
              where j.trail_id = t.id order by h.id limit 5) as h on true
        order by t.id, h.id";
    let rows = rows(client, text).await?;
    let mut out = Vec::with_capacity(4 << 10);
    out.extend_from_slice(b"{\"data\":{\"trails\":{\"nodes\":[");
    let mut last: Option<i32> = None;
    let mut first = true;
    for row in rows {
        let id: i32 = row.get(0);
        if last != Some(id) {
            if last.is_some() {
                out.extend_from_slice(b"]}},");
            }
            last = Some(id);
            out.extend_from_slice(b"{\"name\":");
            string(&mut out, row.get(1));
            out.extend_from_slice(b",\"huts\":{\"totalCount\":");
            integer(&mut out, row.get(2));
            out.extend_from_slice(b",\"edges\":[");
            first = true;
        }
        if let Some(position) = row.get::<_, Option<i32>>(3) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"position\":");
            integer(&mut out, position.into());
            out.extend_from_slice(b",\"node\":{\"name\":");
            string(&mut out, row.get(4));
            out.extend_from_slice(b"}}");
        }
    }
    out.extend_from_slice(if last.is_some() { b"]}}]}}}" } else { b"]}}}" });
    Ok(out)
}
