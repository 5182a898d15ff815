//! What is in the log of the rescue service.

use rusqlite::{Connection, Transaction, params};

use crate::data::{HIKERS, date, member_number, person};
use crate::random::Random;

/// The tables of the rescue service, as SQL.
pub(crate) const SCHEMA: &str = include_str!("../rescue.sql");

const CALLOUTS: i64 = 1_000;
const RESCUERS: i64 = 40;
const REPORTS: &[&str] =
    &["found above the lake", "flown out", "walked down with us", "waited in the hut until the wind dropped"];

/// Fills every table: `codes` are the codes of the huts.
pub(crate) fn insert(db: &Transaction<'_>, codes: &[String]) -> rusqlite::Result<()> {
    let random = &mut Random::new(20_260_715);
    let mut rescuer = db.prepare("insert into rescuers values (?, ?, ?, ?)")?;
    for id in 1..=RESCUERS {
        let base = random.pick(&["Northgate", "Lakeside", "Upper Valley"]);
        rescuer.execute(params![id, person(random), base, date(-random.between(200, 7_000))])?;
    }
    let mut callout = db.prepare("insert into callouts values (?, ?, ?, ?, ?, ?, ?, ?)")?;
    let mut crew = db.prepare("insert or ignore into callout_rescuers values (?, ?, ?)")?;
    let codes: Vec<&str> = codes.iter().map(String::as_str).collect();
    for id in 1..=CALLOUTS {
        // The log is written as it goes, the oldest first. Huts that closed since still stand in it.
        let day = id * 3 / 5 - 420;
        let hour = random.between(0, 19);
        let code = if random.one_in(40) { "XX99" } else { random.pick(&codes) };
        let kind = random.pick(&["search", "injury", "injury", "storm", "false alarm"]);
        callout.execute(params![
            id,
            code,
            random.one_in(2).then(|| member_number(random.between(1, HIKERS))),
            format!("{} {hour:02}:{:02}:00", date(day), random.between(0, 59)),
            (id < CALLOUTS - 5).then(|| format!("{} {:02}:30:00", date(day), hour + random.between(1, 4))),
            kind,
            if kind == "false alarm" { 1 } else { random.between(1, 5) },
            random.one_in(3).then(|| random.pick(REPORTS)),
        ])?;
        for _ in 0..random.between(0, 4) {
            let half_hours = random.between(1, 16);
            let hours = format!("{}.{}", half_hours / 2, half_hours % 2 * 5);
            crew.execute(params![id, random.between(1, RESCUERS), hours])?;
        }
    }
    Ok(())
}

/// The codes of the huts, in order.
pub(crate) fn codes(huts: &Connection) -> rusqlite::Result<Vec<String>> {
    huts.prepare("select code from huts order by id")?.query_map([], |row| row.get(0))?.collect()
}
