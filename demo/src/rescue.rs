//! What is in the log of the rescue service.

use rusqlite::{Connection, Transaction, params};

use crate::data::{date, person};
use crate::random::Random;

/// The tables of the rescue service, as SQL.
pub(crate) const SCHEMA: &str = include_str!("../rescue.sql");

const CALLOUTS: i64 = 1_000;
const RESCUERS: i64 = 40;
const REPORTS: &[&str] =
    &["found above the lake", "flown out", "walked down with us", "waited in the hut until the wind dropped"];

/// What the rescue service knows of the club: the codes of its huts, and the numbers of its members.
pub(crate) struct Club {
    codes: Vec<String>,
    members: Vec<i64>,
}

impl Club {
    /// Reads them from the huts' database.
    pub(crate) fn of(huts: &Connection) -> rusqlite::Result<Self> {
        let mut codes = huts.prepare("select code from huts order by id")?;
        let mut members = huts.prepare("select member_no from hikers where member_no is not null order by id")?;
        Ok(Club {
            codes: codes.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?,
            members: members.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?,
        })
    }
}

/// Fills every table.
pub(crate) fn insert(db: &Transaction<'_>, club: &Club) -> rusqlite::Result<()> {
    let random = &mut Random::new(20_260_715);
    let mut rescuer = db.prepare("insert into rescuers values (?, ?, ?, ?)")?;
    for id in 1..=RESCUERS {
        let base = random.pick(&["Northgate", "Lakeside", "Upper Valley"]);
        rescuer.execute(params![id, person(random), base, date(-random.between(200, 7_000))])?;
    }
    let mut callout = db.prepare("insert into callouts values (?, ?, ?, ?, ?, ?, ?, ?)")?;
    let mut crew = db.prepare("insert or ignore into callout_rescuers values (?, ?, ?)")?;
    let codes: Vec<&str> = club.codes.iter().map(String::as_str).collect();
    let members: Vec<&i64> = club.members.iter().collect();
    for id in 1..=CALLOUTS {
        // The log is written as it goes, the oldest first. Huts that closed since still stand in it.
        let day = id * 3 / 5 - 420;
        let hour = random.between(0, 19);
        let code = if random.one_in(40) { "XX99" } else { random.pick(&codes) };
        let kind = random.pick(&["search", "injury", "injury", "storm", "false alarm"]);
        callout.execute(params![
            id,
            code,
            random.one_in(2).then(|| random.pick(&members)),
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
