//! MariaDB by hand: a statement per level, children of several parents by a union of one limited select per parent,
//! which is what the indexes serve best.

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Opts, OptsBuilder, Pool, PoolConstraints, PoolOpts, Row, Value};

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
        let options = Opts::from_url(&url.replacen("mariadb:", "mysql:", 1)).expect("an address");
        let constraints = PoolConstraints::new(0, READERS * 4).expect("bounds");
        let pool = PoolOpts::default().with_constraints(constraints).with_reset_connection(false);
        let workers = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
        Sessions {
            pool: Pool::new(OptsBuilder::from_opts(options).pool_opts(pool).prefer_socket(false)),
            workers: workers.expect("threads"),
        }
    }

    pub(super) async fn answer(&self, ask: Ask) -> Vec<u8> {
        let pool = self.pool.clone();
        let work = self.workers.spawn(async move {
            let mut session = pool.get_conn().await.expect("a session");
            read(&mut session, ask).await.expect("the statements run")
        });
        work.await.expect("an answer")
    }
}

macro_rules! in_snapshot {
    ($session:ident, $read:ident) => {{
        $session.query_drop("start transaction with consistent snapshot, read only").await?;
        let answer = $read($session).await?;
        $session.query_drop("commit").await?;
        Ok(answer)
    }};
}
async fn read(session: &mut Conn, ask: Ask) -> mysql_async::Result<Vec<u8>> {
    match ask {
        Ask::ByKey => by_key(session).await,
        Ask::Page => page(session).await,
        Ask::ThreeLevels => in_snapshot!(session, three_levels),
        Ask::AsWarden => in_snapshot!(session, as_warden),
        Ask::FiveLevels => in_snapshot!(session, five_levels),
        Ask::FilterThroughLinks => filter(session).await,
        Ask::ManyToMany => in_snapshot!(session, many_to_many),
        Ask::InsideJson => reports(session).await,
        Ask::ByMember => by_member(session).await,
    }
}

/// `one` for every parent, each with its own limit. `one` binds the parent's id and names it.
async fn children(session: &mut Conn, one: &str, parents: &[i64]) -> mysql_async::Result<Vec<Row>> {
    if parents.is_empty() {
        return Ok(Vec::new());
    }
    let text = vec![one; parents.len()].join(" union all ");
    let values: Vec<Value> = parents.iter().map(|id| Value::Int(*id)).collect();
    session.exec(text, values).await
}

fn text(row: &Row, at: usize) -> Option<&str> {
    match row.as_ref(at) {
        Some(Value::Bytes(bytes)) => std::str::from_utf8(bytes).ok(),
        _ => None,
    }
}

fn put(out: &mut Vec<u8>, row: &Row, at: usize) {
    nullable(out, text(row, at));
}

fn number(row: &Row, at: usize) -> i64 {
    row.get(at).unwrap_or(0)
}

async fn by_key(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let rows: Vec<Row> = session.exec("select name, altitude, code from huts where id = ?", (7,)).await?;
    let mut out = b"{\"data\":{\"hut\":{\"name\":".to_vec();
    put(&mut out, &rows[0], 0);
    out.extend_from_slice(b",\"altitude\":");
    integer(&mut out, number(&rows[0], 1));
    out.extend_from_slice(b",\"code\":");
    put(&mut out, &rows[0], 2);
    out.extend_from_slice(b"}}}");
    Ok(out)
}

async fn page(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let statement = "select id, cast(starts_on as char), nights, status, price from bookings order by id limit 50";
    let rows: Vec<Row> = session.exec(statement, ()).await?;
    let mut out = b"{\"data\":{\"bookings\":{\"nodes\":[".to_vec();
    let mut first = true;
    for row in &rows {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, number(row, 0));
        out.extend_from_slice(b",\"startsOn\":");
        put(&mut out, row, 1);
        out.extend_from_slice(b",\"nights\":");
        integer(&mut out, number(row, 2));
        out.extend_from_slice(b",\"status\":");
        status(&mut out, text(row, 3).unwrap_or_default());
        out.extend_from_slice(b",\"price\":");
        put(&mut out, row, 4);
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn three_levels(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let huts = "select h.id, h.name, r.name from huts as h left join regions as r on r.id = h.region_id order by h.id limit 20";
    let one = "(select b.hut_id, cast(b.starts_on as char), k.name from bookings as b left join hikers as k
        on k.id = b.hiker_id where b.hut_id = ? order by b.id limit 10)";
    levels(session, huts, one).await
}

async fn as_warden(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let huts = format!(
        "select h.id, h.name, r.name from huts as h left join regions as r on r.id = h.region_id
           and exists (select 1 from huts as o where o.region_id = r.id and o.warden_id = {WARDEN})
         where h.warden_id = {WARDEN} order by h.id limit 20"
    );
    let one = format!(
        "(select b.hut_id, cast(b.starts_on as char), k.name from bookings as b left join huts as h on h.id = b.hut_id
          left join hikers as k on k.id = b.hiker_id and exists (select 1 from bookings as o
            left join huts as oh on oh.id = o.hut_id where o.hiker_id = k.id and oh.warden_id = {WARDEN})
          where b.hut_id = ? and h.warden_id = {WARDEN} order by b.id limit 10)"
    );
    levels(session, &huts, &one).await
}

async fn levels(session: &mut Conn, huts: &str, one: &str) -> mysql_async::Result<Vec<u8>> {
    let huts: Vec<Row> = session.exec(huts, ()).await?;
    let ids: Vec<i64> = huts.iter().map(|hut| number(hut, 0)).collect();
    let bookings = children(session, one, &ids).await?;
    let mut out = b"{\"data\":{\"huts\":{\"nodes\":[".to_vec();
    let mut first = true;
    for (hut, id) in huts.iter().zip(&ids) {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        put(&mut out, hut, 1);
        out.extend_from_slice(b",\"region\":{\"name\":");
        put(&mut out, hut, 2);
        out.extend_from_slice(b"},\"bookings\":{\"nodes\":[");
        let mut first = true;
        for booking in bookings.iter().filter(|booking| number(booking, 0) == *id) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"startsOn\":");
            put(&mut out, booking, 1);
            out.extend_from_slice(b",\"hiker\":{\"name\":");
            put(&mut out, booking, 2);
            out.extend_from_slice(b"}}");
        }
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn by_member(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let text = "select id from incidents where json_value(report, '$.weather.snow') = ? order by id limit 20";
    let rows: Vec<Row> = session.exec(text, (100,)).await?;
    Ok(incidents_of(&rows.iter().map(|row| number(row, 0)).collect::<Vec<i64>>()))
}

async fn five_levels(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let regions: Vec<Row> = session.exec("select id, name from regions order by id limit 4", ()).await?;
    let ids = |rows: &[Row], at: usize| rows.iter().map(|row| number(row, at)).collect::<Vec<i64>>();
    let one = "(select region_id, id, name from huts where region_id = ? order by id limit 5)";
    let huts = children(session, one, &ids(&regions, 0)).await?;
    let one = "(select b.hut_id, cast(b.starts_on as char), k.name, k.id from bookings as b left join hikers as k
        on k.id = b.hiker_id where b.hut_id = ? order by b.id limit 5)";
    let bookings = children(session, one, &ids(&huts, 1)).await?;
    let mut hikers = ids(&bookings, 3);
    hikers.sort_unstable();
    hikers.dedup();
    let one = "(select j.hiker_id, b.title from hiker_badges as j join badges as b on b.id = j.badge_id
        where j.hiker_id = ? order by b.id limit 3)";
    let badges = children(session, one, &hikers).await?;
    let mut out = b"{\"data\":{\"regions\":{\"nodes\":[".to_vec();
    let mut first = true;
    for region in &regions {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        put(&mut out, region, 1);
        out.extend_from_slice(b",\"huts\":{\"nodes\":[");
        let mut first = true;
        for hut in huts.iter().filter(|hut| number(hut, 0) == number(region, 0)) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"name\":");
            put(&mut out, hut, 2);
            out.extend_from_slice(b",\"bookings\":{\"nodes\":[");
            let mut first = true;
            for booking in bookings.iter().filter(|booking| number(booking, 0) == number(hut, 1)) {
                separate(&mut out, &mut first);
                out.extend_from_slice(b"{\"startsOn\":");
                put(&mut out, booking, 1);
                out.extend_from_slice(b",\"hiker\":{\"name\":");
                put(&mut out, booking, 2);
                out.extend_from_slice(b",\"badges\":{\"nodes\":[");
                let mut first = true;
                for badge in badges.iter().filter(|badge| number(badge, 0) == number(booking, 3)) {
                    separate(&mut out, &mut first);
                    out.extend_from_slice(b"{\"title\":");
                    put(&mut out, badge, 1);
                    out.push(b'}');
                }
                out.extend_from_slice(b"]}}}");
            }
            out.extend_from_slice(b"]}}");
        }
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn filter(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let statement = "select b.id, cast(b.starts_on as char) from bookings as b join huts as h on h.id = b.hut_id
        join hikers as k on k.id = b.hiker_id where h.altitude > 2500 and left(k.name, 1) = binary 'A'
        order by b.id limit 20";
    let rows: Vec<Row> = session.exec(statement, ()).await?;
    let mut out = b"{\"data\":{\"bookings\":{\"nodes\":[".to_vec();
    let mut first = true;
    for row in &rows {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, number(row, 0));
        out.extend_from_slice(b",\"startsOn\":");
        put(&mut out, row, 1);
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn reports(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let rows: Vec<Row> = session.exec(REPORTS, ()).await?;
    let mut reports = Reports::new();
    rows.iter().for_each(|row| reports.add(text(row, 0).expect("a report").as_bytes()));
    Ok(reports.end())
}

async fn many_to_many(session: &mut Conn) -> mysql_async::Result<Vec<u8>> {
    let trails: Vec<Row> = session
        .exec(
            "select t.id, t.name, (select count(*) from trail_huts as j where j.trail_id = t.id) from trails as t
             order by t.id limit 10",
            (),
        )
        .await?;
    let ids: Vec<i64> = trails.iter().map(|trail| number(trail, 0)).collect();
    let one = "(select j.trail_id, j.position, h.name from trail_huts as j join huts as h on h.id = j.hut_id
        where j.trail_id = ? order by h.id limit 5)";
    let huts = children(session, one, &ids).await?;
    let mut out = b"{\"data\":{\"trails\":{\"nodes\":[".to_vec();
    let mut first = true;
    for trail in &trails {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, text(trail, 1).unwrap_or_default());
        out.extend_from_slice(b",\"huts\":{\"totalCount\":");
        integer(&mut out, number(trail, 2));
        out.extend_from_slice(b",\"edges\":[");
        let mut first = true;
        for hut in huts.iter().filter(|hut| number(hut, 0) == number(trail, 0)) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"position\":");
            integer(&mut out, number(hut, 1));
            out.extend_from_slice(b",\"node\":{\"name\":");
            put(&mut out, hut, 2);
            out.extend_from_slice(b"}}");
        }
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}
