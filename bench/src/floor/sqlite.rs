//! SQLite by hand: nested prepared cursors, one read transaction per ask.

use std::path::Path;

use rusqlite::config::DbConfig;
use rusqlite::{CachedStatement, Connection, OpenFlags};
use tokio::sync::oneshot;

use super::json::{integer, nullable, separate, status, string};
use super::reports::{REPORTS, Reports, incidents_of};
use crate::READERS;
use crate::asks::{Ask, WARDEN};

struct Job {
    ask: Ask,
    reply: oneshot::Sender<Vec<u8>>,
}

/// As many reading threads as Puente has.
pub(crate) struct Readers {
    jobs: flume::Sender<Job>,
}

impl Readers {
    pub(super) fn start(file: &Path) -> Self {
        let (jobs, queue) = flume::bounded::<Job>(1_024);
        for _ in 0..READERS {
            let (queue, file) = (queue.clone(), file.to_owned());
            std::thread::spawn(move || work(&file, &queue));
        }
        Readers { jobs }
    }

    pub(super) async fn answer(&self, ask: Ask) -> Vec<u8> {
        let (reply, answer) = oneshot::channel();
        self.jobs.try_send(Job { ask, reply }).expect("room in the queue");
        answer.await.expect("an answer")
    }
}

fn work(file: &Path, queue: &flume::Receiver<Job>) {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(file, flags).expect("the database");
    connection.set_prepared_statement_cache_capacity(64);
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).expect("a setting");
    while let Ok(Job { ask, reply }) = queue.recv() {
        let answer = match ask {
            Ask::ByKey => by_key(&connection),
            Ask::Page => page(&connection),
            Ask::ThreeLevels => in_snapshot(&connection, three_levels),
            Ask::AsWarden => in_snapshot(&connection, as_warden),
            Ask::FiveLevels => in_snapshot(&connection, five_levels),
            Ask::FilterThroughLinks => filter(&connection),
            Ask::ManyToMany => in_snapshot(&connection, many_to_many),
            Ask::InsideJson => reports(&connection),
            Ask::ByMember => by_member(&connection),
        };
        let _ = reply.send(answer.expect("the statements run"));
    }
}

fn in_snapshot(
    connection: &Connection,
    read: fn(&Connection) -> rusqlite::Result<Vec<u8>>,
) -> rusqlite::Result<Vec<u8>> {
    connection.prepare_cached("begin")?.raw_execute()?;
    let answer = read(connection);
    connection.prepare_cached("rollback")?.raw_execute()?;
    answer
}

fn by_key(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut hut = connection.prepare_cached("select name, altitude, code from huts where id = ?")?;
    hut.raw_bind_parameter(1, 7)?;
    let mut rows = hut.raw_query();
    let mut out = Vec::with_capacity(128);
    let row = rows.next()?.expect("the hut is there");
    out.extend_from_slice(b"{\"data\":{\"hut\":{\"name\":");
    string(&mut out, row.get_ref(0)?.as_str()?);
    out.extend_from_slice(b",\"altitude\":");
    integer(&mut out, row.get_ref(1)?.as_i64()?);
    out.extend_from_slice(b",\"code\":");
    string(&mut out, row.get_ref(2)?.as_str()?);
    out.extend_from_slice(b"}}}");
    Ok(out)
}

fn by_member(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut incidents = connection
        .prepare_cached("select id from incidents where report ->> '$.weather.snow' = ? order by id limit 20")?;
    incidents.raw_bind_parameter(1, 100)?;
    let mut rows = incidents.raw_query();
    let mut ids = Vec::with_capacity(20);
    while let Some(row) = rows.next()? {
        ids.push(row.get_ref(0)?.as_i64()?);
    }
    Ok(incidents_of(&ids))
}

fn page(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut bookings =
        connection.prepare_cached("select id, starts_on, nights, status, price from bookings order by id limit 50")?;
    let mut out = Vec::with_capacity(8 << 10);
    out.extend_from_slice(b"{\"data\":{\"bookings\":{\"nodes\":[");
    let mut rows = bookings.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, row.get_ref(0)?.as_i64()?);
        out.extend_from_slice(b",\"startsOn\":");
        string(&mut out, row.get_ref(1)?.as_str()?);
        out.extend_from_slice(b",\"nights\":");
        integer(&mut out, row.get_ref(2)?.as_i64()?);
        out.extend_from_slice(b",\"status\":");
        status(&mut out, row.get_ref(3)?.as_str()?);
        out.extend_from_slice(b",\"price\":");
        let price = match row.get_ref(4)? {
            rusqlite::types::ValueRef::Integer(value) => Some(value.to_string()),
            rusqlite::types::ValueRef::Real(value) => Some(value.to_string()),
            _ => None,
        };
        nullable(&mut out, price.as_deref());
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

fn three_levels(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let huts = connection.prepare_cached(
        "select h.name, r.name, h.id from huts as h left join regions as r on r.id = h.region_id order by h.id limit 20",
    )?;
    let bookings = connection.prepare_cached(
        "select b.starts_on, k.name from bookings as b left join hikers as k on k.id = b.hiker_id
         where b.hut_id = ? order by b.id limit 10",
    )?;
    levels(huts, bookings)
}

fn as_warden(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut huts = connection.prepare_cached(
        "select h.name, r.name, h.id from huts as h left join regions as r on r.id = h.region_id
           and exists (select 1 from huts as o where o.region_id = r.id and o.warden_id = ?1)
         where h.warden_id = ?1 order by h.id limit 20",
    )?;
    let mut bookings = connection.prepare_cached(
        "select b.starts_on, k.name from bookings as b left join huts as h on h.id = b.hut_id
         left join hikers as k on k.id = b.hiker_id and exists (select 1 from bookings as o
           left join huts as oh on oh.id = o.hut_id where o.hiker_id = k.id and oh.warden_id = ?2)
         where b.hut_id = ?1 and h.warden_id = ?2 order by b.id limit 10",
    )?;
    huts.raw_bind_parameter(1, WARDEN)?;
    bookings.raw_bind_parameter(2, WARDEN)?;
    levels(huts, bookings)
}

fn levels(mut huts: CachedStatement<'_>, mut bookings: CachedStatement<'_>) -> rusqlite::Result<Vec<u8>> {
    let mut out = Vec::with_capacity(32 << 10);
    out.extend_from_slice(b"{\"data\":{\"huts\":{\"nodes\":[");
    let mut rows = huts.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, row.get_ref(0)?.as_str()?);
        out.extend_from_slice(b",\"region\":{\"name\":");
        string(&mut out, row.get_ref(1)?.as_str()?);
        out.extend_from_slice(b"},\"bookings\":{\"nodes\":[");
        guests(&mut bookings, row.get(2)?, &mut out)?;
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

fn guests(bookings: &mut CachedStatement<'_>, hut: i64, out: &mut Vec<u8>) -> rusqlite::Result<()> {
    bookings.raw_bind_parameter(1, hut)?;
    let mut rows = bookings.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(out, &mut first);
        out.extend_from_slice(b"{\"startsOn\":");
        string(out, row.get_ref(0)?.as_str()?);
        out.extend_from_slice(b",\"hiker\":{\"name\":");
        string(out, row.get_ref(1)?.as_str()?);
        out.extend_from_slice(b"}}");
    }
    Ok(())
}

fn five_levels(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut regions = connection.prepare_cached("select name, id from regions order by id limit 4")?;
    let mut huts = connection.prepare_cached("select name, id from huts where region_id = ? order by id limit 5")?;
    let mut bookings = connection.prepare_cached(
        "select b.starts_on, k.name, k.id from bookings as b left join hikers as k on k.id = b.hiker_id
         where b.hut_id = ? order by b.id limit 5",
    )?;
    let mut badges = connection.prepare_cached(
        "select b.title from hiker_badges as j join badges as b on b.id = j.badge_id where j.hiker_id = ?
         order by b.id limit 3",
    )?;
    let mut out = Vec::with_capacity(32 << 10);
    out.extend_from_slice(b"{\"data\":{\"regions\":{\"nodes\":[");
    let mut region_rows = regions.raw_query();
    let mut first_region = true;
    while let Some(region) = region_rows.next()? {
        separate(&mut out, &mut first_region);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, region.get_ref(0)?.as_str()?);
        out.extend_from_slice(b",\"huts\":{\"nodes\":[");
        huts.raw_bind_parameter(1, region.get::<_, i64>(1)?)?;
        let mut hut_rows = huts.raw_query();
        let mut first_hut = true;
        while let Some(hut) = hut_rows.next()? {
            separate(&mut out, &mut first_hut);
            out.extend_from_slice(b"{\"name\":");
            string(&mut out, hut.get_ref(0)?.as_str()?);
            out.extend_from_slice(b",\"bookings\":{\"nodes\":[");
            bookings.raw_bind_parameter(1, hut.get::<_, i64>(1)?)?;
            let mut booking_rows = bookings.raw_query();
            let mut first_booking = true;
            while let Some(booking) = booking_rows.next()? {
                separate(&mut out, &mut first_booking);
                out.extend_from_slice(b"{\"startsOn\":");
                string(&mut out, booking.get_ref(0)?.as_str()?);
                out.extend_from_slice(b",\"hiker\":{\"name\":");
                string(&mut out, booking.get_ref(1)?.as_str()?);
                out.extend_from_slice(b",\"badges\":{\"nodes\":[");
                badges.raw_bind_parameter(1, booking.get::<_, i64>(2)?)?;
                let mut badge_rows = badges.raw_query();
                let mut first_badge = true;
                while let Some(badge) = badge_rows.next()? {
                    separate(&mut out, &mut first_badge);
                    out.extend_from_slice(b"{\"title\":");
                    string(&mut out, badge.get_ref(0)?.as_str()?);
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

fn filter(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut bookings = connection.prepare_cached(
        "select b.id, b.starts_on from bookings as b left join huts as h on h.id = b.hut_id
         left join hikers as k on k.id = b.hiker_id
         where h.altitude > 2500 and substr(k.name, 1, 1) = 'A' order by b.id limit 20",
    )?;
    let mut out = Vec::with_capacity(2 << 10);
    out.extend_from_slice(b"{\"data\":{\"bookings\":{\"nodes\":[");
    let mut rows = bookings.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, row.get_ref(0)?.as_i64()?);
        out.extend_from_slice(b",\"startsOn\":");
        string(&mut out, row.get_ref(1)?.as_str()?);
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

fn reports(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut statement = connection.prepare_cached(REPORTS)?;
    let mut rows = statement.raw_query();
    let mut reports = Reports::new();
    while let Some(row) = rows.next()? {
        reports.add(row.get_ref(0)?.as_bytes()?);
    }
    Ok(reports.end())
}

fn many_to_many(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut trails = connection.prepare_cached("select name, id from trails order by id limit 10")?;
    let mut count = connection.prepare_cached("select count(*) from trail_huts where trail_id = ?")?;
    let mut huts = connection.prepare_cached(
        "select j.position, h.name from trail_huts as j join huts as h on h.id = j.hut_id where j.trail_id = ?
         order by h.id limit 5",
    )?;
    let mut out = Vec::with_capacity(4 << 10);
    out.extend_from_slice(b"{\"data\":{\"trails\":{\"nodes\":[");
    let mut rows = trails.raw_query();
    let mut first = true;
    while let Some(trail) = rows.next()? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, trail.get_ref(0)?.as_str()?);
        let id: i64 = trail.get(1)?;
        out.extend_from_slice(b",\"huts\":{\"totalCount\":");
        count.raw_bind_parameter(1, id)?;
        let mut counted = count.raw_query();
        integer(&mut out, counted.next()?.expect("a count").get(0)?);
        drop(counted);
        out.extend_from_slice(b",\"edges\":[");
        huts.raw_bind_parameter(1, id)?;
        let mut edges = huts.raw_query();
        let mut first_edge = true;
        while let Some(edge) = edges.next()? {
            separate(&mut out, &mut first_edge);
            out.extend_from_slice(b"{\"position\":");
            integer(&mut out, edge.get_ref(0)?.as_i64()?);
            out.extend_from_slice(b",\"node\":{\"name\":");
            string(&mut out, edge.get_ref(1)?.as_str()?);
            out.extend_from_slice(b"}}");
        }
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}
