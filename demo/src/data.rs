//! What is in the tables.

use rusqlite::{Transaction, params};
use serde_json::{Value as Json, json};

use crate::random::Random;

const FIRST: &[&str] = &[
    "Alba", "Bruno", "Carla", "Dario", "Elena", "Fabio", "Greta", "Hugo", "Ilse", "Jonas", "Katja", "Luca", "Mira",
    "Nils", "Olga", "Paolo", "Quirin", "Rosa", "Sven", "Tilda", "Ursin", "Vera", "Walter", "Xenia", "Yann", "Zora",
];
const LAST: &[&str] = &[
    "Amsler", "Bernasch", "Caduro", "Dorta", "Egloff", "Felber", "Gadient", "Hollen", "Inauen", "Jost", "Kolb",
    "Lorez", "Meuli", "Nay", "Oswald", "Prader", "Quinter", "Ragaz", "Seiler", "Tscharn", "Ulber", "Vonmoos", "Wyss",
    "Zindel",
];
const PEAKS: &[&str] =
    &["Silver", "Raven", "Cloud", "Wolf", "Marmot", "Larch", "Eagle", "Granite", "Thistle", "Echo", "Frost", "Amber"];
const PLACES: &[&str] = &["Saddle", "Ridge", "Pass", "Lake", "Tarn", "Meadow", "Needle", "Cirque"];
const ITEMS: &[(&str, &str)] = &[
    ("flour", "kg"),
    ("lentils", "kg"),
    ("coffee", "kg"),
    ("gas", "bottle"),
    ("firewood", "stere"),
    ("blankets", "piece"),
    ("candles", "piece"),
];
const NOTES: &[&str] =
    &["vegetarian", "arrives late", "with a dog, 100% friendly", "“quiet” room, please", "brings own rope"];

const KINDS: &[&str] = &["rockfall", "avalanche", "fall", "exhaustion", "lost", "storm damage"];
const DIRECTIONS: &[&str] = &["N", "NE", "E", "SE", "S", "SW", "W", "NW"];
const INJURIES: &[&str] = &["ankle", "knee", "wrist", "head", "frostbite"];
const STEPS: &[&str] = &[
    "called the rescue service",
    "gave first aid",
    "walked down with them",
    "closed the path",
    "told the next hut",
    "searched the ridge",
];
const TAGS: &[&str] = &["night", "children", "dog", "glacier", "via ferrata", "false alarm"];

const HUTS: i64 = 60;
const INCIDENTS: i64 = 240;
const HIKERS: i64 = 2_500;
const BOOKINGS: i64 = 20_000;
const READINGS: i64 = 100_000;
const TRAILS: i64 = 25;

/// Fills every table.
pub(crate) fn insert(db: &Transaction<'_>) -> rusqlite::Result<()> {
    let random = &mut Random::new(20_260_714);
    regions_and_wardens(db, random)?;
    huts(db, random)?;
    hikers(db, random)?;
    bookings(db, random)?;
    trails(db, random)?;
    supplies(db, random)?;
    readings(db, random)?;
    incident_log(db)?;
    // Last, so that what was there before is what it was.
    incidents(db, random)
}

/// `2026-01-01` plus some days, by the civil calendar.
pub(crate) fn date(days: i64) -> String {
    let (mut year, mut day) = (2026, days);
    let length = |year: i64| if year % 4 == 0 { 366 } else { 365 };
    while day < 0 {
        year -= 1;
        day += length(year);
    }
    while day >= length(year) {
        day -= length(year);
        year += 1;
    }
    let months = [31, if year % 4 == 0 { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let mut month = 0;
    while day >= months[month] {
        day -= months[month];
        month += 1;
    }
    format!("{year:04}-{:02}-{:02}", month + 1, day + 1)
}

pub(crate) fn person(random: &mut Random) -> String {
    format!("{} {}", random.pick(FIRST), random.pick(LAST))
}

fn regions_and_wardens(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut region = db.prepare("insert into regions values (?, ?, ?)")?;
    let names = [
        "Northern Range",
        "Southern Range",
        "Upper Valley",
        "Lower Valley",
        "High Plateau",
        "Lake Country",
        "Old Glacier",
        "Larch Woods",
    ];
    for (id, name) in (1_i64..).zip(names) {
        region.execute(params![id, name, (id > 2).then_some(1 + id % 2)])?;
    }
    let mut warden = db.prepare("insert into wardens values (?, ?, ?, ?, ?)")?;
    for id in 1..=30_i64 {
        let name = person(random);
        let email = format!("{}{id}@huts.example", name.split(' ').next().unwrap_or_default());
        let mut licence = random.bytes(16);
        // Version 4 and variant 10 of RFC 9562: some databases take no other UUID.
        licence[6] = licence[6] & 0x0f | 0x40;
        licence[8] = licence[8] & 0x3f | 0x80;
        let licence: String = licence.iter().map(|byte| format!("{byte:02x}")).collect();
        let licence = format!(
            "{}-{}-{}-{}-{}",
            &licence[..8],
            &licence[8..12],
            &licence[12..16],
            &licence[16..20],
            &licence[20..]
        );
        warden.execute(params![
            id,
            name,
            email,
            date(-random.between(100, 9_000)),
            (!random.one_in(5)).then_some(licence)
        ])?;
    }
    Ok(())
}

fn huts(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into huts values (?,?,?,?,?,?,?,?,?,?,?,?,?,?)")?;
    for id in 1..=HUTS {
        let index = usize::try_from(id).unwrap_or(0);
        let (peak, place) = (PEAKS[index % PEAKS.len()], PLACES[index / PEAKS.len() % PLACES.len()]);
        let facilities = format!(
            r#"{{"shower":{},"rooms":[{{"beds":{}}},{{"beds":{}}}],"languages":["de","{}"]}}"#,
            random.one_in(2),
            random.between(2, 6),
            random.between(4, 12),
            random.pick(&["it", "fr", "rm"])
        );
        let closed = random.one_in(6);
        insert.execute(params![
            id,
            format!("{}{}{id:02}", &peak[..1], &place[..1]),
            format!("{peak} {place} Hut"),
            random.between(1, 8),
            (!random.one_in(8)).then(|| random.between(1, 30)),
            random.between(1_200, 3_400),
            random.between(4, 80),
            (!closed).then_some("07:00:00"),
            (!closed).then_some("21:30:00"),
            !random.one_in(4),
            format!("{}.{:02}", random.between(18, 75), random.pick(&[&0_i64, &50, &90])),
            (!random.one_in(5)).then_some(facilities),
            random.one_in(6).then(|| random.bytes(48)),
            random.one_in(4).then_some("Water only from the spring."),
        ])?;
    }
    Ok(())
}

fn hikers(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into hikers values (?,?,?,?,?,?,?)")?;
    for id in 1..=HIKERS {
        let name = person(random);
        insert.execute(params![
            id,
            name,
            (!random.one_in(6)).then(|| format!("{}.{id}@trails.example", name.to_lowercase().replace(' ', "."))),
            (!random.one_in(3)).then(|| format!("+00 555 {:06}", random.between(0, 999_999))),
            (!random.one_in(10)).then(|| date(-random.between(6_500, 28_000))),
            random.one_in(2).then_some(9_000_000_000_000_000_000 + id),
            format!(
                "{} {:02}:{:02}:{:02}",
                date(-random.between(1, 900)),
                random.between(0, 23),
                random.between(0, 59),
                random.between(0, 59)
            ),
        ])?;
    }
    let mut badge = db.prepare("insert into badges values (?, ?)")?;
    for (id, title) in (1_i64..).zip(["First night", "Ten huts", "Winter walker", "Trail keeper", "Early bird"]) {
        badge.execute(params![id, title])?;
    }
    let mut earned = db.prepare("insert or ignore into hiker_badges values (?, ?)")?;
    for _ in 0..HIKERS {
        earned.execute(params![random.between(1, HIKERS), random.between(1, 5)])?;
    }
    Ok(())
}

fn bookings(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert or ignore into bookings values (?,?,?,?,?,?,?,?,?,?)")?;
    let mut id = 1;
    while id <= BOOKINGS {
        let nights = random.between(1, 5);
        let guests = random.between(1, 6);
        let status = random.pick(&["confirmed", "confirmed", "confirmed", "requested", "declined", "no show"]);
        let price = format!("{}.{:02}", nights * guests * random.between(18, 75), random.pick(&[&0_i64, &50]));
        let inserted = insert.execute(params![
            id,
            random.between(1, HUTS),
            random.between(1, HIKERS),
            random.one_in(5).then(|| random.between(1, HIKERS)),
            date(random.between(-200, 300)),
            nights,
            guests,
            status,
            (status != "requested").then_some(price),
            random.one_in(7).then(|| random.pick(NOTES)),
        ])?;
        id += i64::try_from(inserted).unwrap_or(0);
    }
    Ok(())
}

fn trails(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut trail = db.prepare("insert into trails values (?,?,?,?,?,?)")?;
    let mut stage = db.prepare("insert or ignore into trail_huts values (?,?,?)")?;
    for id in 1..=TRAILS {
        let index = usize::try_from(id).unwrap_or(0);
        let name = format!("{} {} Way {id}", PEAKS[index * 5 % PEAKS.len()], PLACES[index % PLACES.len()]);
        let stages = random.between(2, 9);
        let first = random.between(1, HUTS - 10);
        let length = f64::from(i32::try_from(random.between(60, 480)).unwrap_or(0)) / 10.0;
        trail.execute(params![id, name, random.pick(&["T1", "T2", "T3", "T4"]), length, first, first + stages - 1])?;
        for position in 0..stages {
            stage.execute(params![id, first + position, position + 1])?;
        }
    }
    Ok(())
}

fn supplies(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut supply = db.prepare("insert into supplies values (?,?,?,?,?)")?;
    let mut delivery =
        db.prepare("insert into supply_deliveries (hut_id, item, quantity, delivered_at) values (?,?,?,?)")?;
    for hut in 1..=HUTS {
        for (item, unit) in ITEMS {
            if random.one_in(3) {
                continue;
            }
            let keeps = (*unit == "kg").then(|| date(random.between(30, 500)));
            supply.execute(params![hut, item, random.between(0, 200), unit, keeps])?;
            for _ in 0..random.between(0, 4) {
                let at = format!("{} {:02}:00:00", date(-random.between(1, 300)), random.between(6, 18));
                delivery.execute(params![hut, item, random.between(1, 60), at])?;
            }
        }
    }
    Ok(())
}

fn readings(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into weather_readings values (?,?,?,?,?,?,?)")?;
    for id in 1..=READINGS {
        let hour = (id - 1) / HUTS;
        let temperature = f64::from(i32::try_from(random.between(-250, 240)).unwrap_or(0)) / 10.0;
        insert.execute(params![
            id,
            1 + (id - 1) % HUTS,
            format!("{} {:02}:00:00", date(hour / 24), hour % 24),
            temperature,
            (!random.one_in(12)).then(|| random.between(0, 140)),
            random.one_in(3).then(|| random.between(0, 400)),
            4_000_000_000 + id * 977,
        ])?;
    }
    Ok(())
}

fn incident_log(db: &Transaction<'_>) -> rusqlite::Result<()> {
    db.execute(
        "insert into incident_log select code, '2026-02-' || printf('%02d', 1 + id % 28) || ' 12:30:00',
         json_object('kind', case id % 3 when 0 then 'rockfall' when 1 then 'lost hiker' else 'storm damage' end,
         'helpers', json_array(id % 5, id % 7)), case when id % 4 = 0 then 'high' else id % 4 end
         from huts where id % 2 = 0",
        [],
    )?;
    db.execute("insert into incident_log values ('XX99', null, '{\"kind\":\"hoax\"}', null)", [])?;
    Ok(())
}

/// Reports as a form has them: some of it is always there, some only where there is something to say.
fn incidents(db: &Transaction<'_>, random: &mut Random) -> rusqlite::Result<()> {
    let mut insert = db.prepare("insert into incidents values (?,?,?,?,?)")?;
    for id in 1..=INCIDENTS {
        let day = date(-random.between(1, 700));
        let hour = random.between(5, 21);
        let mut report = json!({
            "kind": random.pick(KINDS),
            "severity": random.between(1, 5),
            "weather": {
                "temperature": f64::from(i32::try_from(random.between(-180, 220)).unwrap_or(0)) / 10.0,
                "snow": random.between(0, 240),
                "wind": { "from": random.pick(DIRECTIONS), "gusts": random.between(0, 130) },
            },
            "people": people(random),
            "steps": steps(random, &day, hour),
        });
        if random.one_in(6) {
            report["weather"] = Json::Null;
        }
        if !random.one_in(3) {
            let count = random.between(0, 2);
            report["tags"] = (0..count).map(|_| random.pick(TAGS)).collect();
        }
        let hiker = (!random.one_in(4)).then(|| random.between(1, HIKERS));
        let at = format!("{day} {hour:02}:40:00");
        insert.execute(params![id, random.between(1, HUTS), hiker, at, report.to_string()])?;
    }
    Ok(())
}

fn people(random: &mut Random) -> Json {
    let count = random.between(1, 4);
    let person = |_| {
        let name = format!("{} {}", random.pick(FIRST), random.pick(LAST));
        let injured = random.one_in(2);
        let mut person = json!({ "name": name, "age": random.between(6, 78), "injured": injured });
        if injured {
            let count = random.between(1, 2);
            person["injuries"] = (0..count).map(|_| random.pick(INJURIES)).collect();
        }
        person
    };
    (0..count).map(person).collect()
}

fn steps(random: &mut Random, day: &str, hour: i64) -> Json {
    let count = random.between(1, 3);
    let step = |number: i64| {
        let at = format!("{day}T{:02}:{:02}:00Z", hour + number / 2, 30 * (number % 2));
        json!({ "at": at, "text": random.pick(STEPS), "by": random.pick(FIRST) })
    };
    (0..count).map(step).collect()
}
