//! What is kept as documents: reports of incidents, gear that is checked, and the crew that goes out. They know huts and members by
//! the keys of the huts' database.

use std::path::Path;

use bson::oid::ObjectId;
use bson::{Bson, DateTime, Decimal128, Document, Uuid, doc};
use puente_core::project::SourceSettings;
use rusqlite::Connection;

use crate::data::{date, person};
use crate::random::Random;
use crate::server::not_empty;

const KINDS: &[&str] = &["rockfall", "avalanche", "fall", "exhaustion", "lost", "storm damage"];
const DIRECTIONS: &[&str] = &["N", "NE", "E", "SE", "S", "SW", "W", "NW"];
const ROLES: &[&str] = &["leader", "medic", "driver", "searcher"];
const SKILLS: &[&str] = &["first aid", "rope", "dog", "drone", "radio", "ski"];
const GEAR: &[&str] = &["rope", "stretcher", "radio", "beacon", "drill", "tent", "first aid kit"];
const STEPS: &[&str] =
    &["called out", "reached the place", "gave first aid", "walked down", "closed the path", "handed over"];
const STATES: &[&str] = &["ready", "in repair", "lost"];

const CREW: i64 = 40;
const REPORTS: i64 = 600;
const PIECES: i64 = 300;

/// What of the huts' database documents refer to.
struct Known {
    codes: Vec<String>,
    members: Vec<i64>,
}

/// Fills the collections of an empty database.
///
/// # Errors
/// A sentence where the database is not empty, cannot be reached, or refuses.
pub(crate) async fn load(settings: &SourceSettings, base: &Path, huts: &Connection) -> Result<(), String> {
    let told = |error: mongodb::error::Error| format!("the demo could not be loaded: {error}");
    let known = known(huts).map_err(|error| format!("the demo's huts cannot be read: {error}"))?;
    let database = puente_sources::mongodb::connect(settings, base).await.map_err(|problem| problem.message)?;
    let there = database.list_collection_names().await.map_err(told)?.len();
    if there > 0 {
        return Err(not_empty(i64::try_from(there).unwrap_or(i64::MAX)));
    }
    database.create_collection("crew").validator(crew_validator()).await.map_err(told)?;
    let random = &mut Random::new(20_261_127);
    let collections = [("crew", crew(random, &known)), ("reports", reports(random)), ("gear", gear(random, &known))];
    for (name, documents) in collections {
        database.collection::<Document>(name).insert_many(documents).await.map_err(told)?;
    }
    for (collection, keys, unique) in [
        ("reports", doc! { "hutId": 1, "at": -1 }, false),
        ("reports", doc! { "crew.memberId": 1 }, false),
        ("reports", doc! { "weather.snow": 1 }, false),
        ("gear", doc! { "hutCode": 1 }, false),
        ("gear", doc! { "serial": 1 }, true),
        ("crew", doc! { "memberNo": 1 }, false),
    ] {
        let options = mongodb::options::IndexOptions::builder().unique(unique).build();
        let index = mongodb::IndexModel::builder().keys(keys).options(options).build();
        database.collection::<Document>(collection).create_index(index).await.map_err(told)?;
    }
    Ok(())
}

fn known(huts: &Connection) -> rusqlite::Result<Known> {
    let mut codes = huts.prepare("select code from huts order by id")?;
    let codes = codes.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
    let mut members = huts.prepare("select member_no from hikers where member_no is not null order by id")?;
    let members = members.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?;
    Ok(Known { codes, members })
}

/// What a member of the crew always has.
fn crew_validator() -> Document {
    doc! { "$jsonSchema": {
        "bsonType": "object",
        "required": ["name", "since", "active"],
        "properties": {
            "name": { "bsonType": "string", "description": "As on the badge." },
            "since": { "bsonType": "date" },
            "active": { "bsonType": "bool" },
            "base": { "enum": ["north", "south", "lake"], "description": "Where the crew starts from." },
        },
    } }
}

/// An identifier that is the same every time.
fn id(kind: u8, number: i64) -> ObjectId {
    let mut bytes = [0; 12];
    bytes[0] = 0x68;
    bytes[3] = kind;
    bytes[4..].copy_from_slice(&number.to_be_bytes());
    ObjectId::from_bytes(bytes)
}

fn instant(day: &str, hour: i64, minute: i64) -> DateTime {
    DateTime::parse_rfc3339_str(format!("{day}T{hour:02}:{minute:02}:00Z")).unwrap_or(DateTime::MIN)
}

fn texts(random: &mut Random, from: &[&str], most: i64) -> Vec<Bson> {
    let count = random.between(0, most);
    let mut found: Vec<&str> = (0..count).map(|_| random.pick(from)).collect();
    found.sort_unstable();
    found.dedup();
    found.into_iter().map(Bson::from).collect()
}

fn crew(random: &mut Random, known: &Known) -> Vec<Document> {
    let one = |number: i64| {
        let mut document = doc! {
            "_id": format!("C-{number:02}"),
            "name": person(random),
            "since": instant(&date(-random.between(100, 5_000)), 0, 0),
            "active": !random.one_in(8),
            "base": random.pick(&["north", "south", "lake"]),
            "skills": texts(random, SKILLS, 4),
            "licence": Uuid::from_bytes(random.bytes(16).try_into().unwrap_or_default()),
        };
        if random.one_in(2) {
            let at = random.between(0, i64::try_from(known.members.len()).unwrap_or(1) - 1);
            document.insert("memberNo", known.members[usize::try_from(at).unwrap_or(0)]);
        }
        document
    };
    (1..=CREW).map(one).collect()
}

fn reports(random: &mut Random) -> Vec<Document> {
    let one = |number: i64| {
        let (day, hour) = (date(-random.between(1, 700)), random.between(5, 19));
        let mut document = doc! {
            "_id": id(1, number),
            "hutId": random.between(1, 60),
            "at": instant(&day, hour, 40),
            "kind": random.pick(KINDS),
            "severity": i32::try_from(random.between(1, 5)).unwrap_or(1),
            "weather": {
                "temperature": f64::from(i32::try_from(random.between(-180, 220)).unwrap_or(0)) / 10.0,
                "snow": i32::try_from(random.between(0, 240)).unwrap_or(0),
                "wind": { "from": random.pick(DIRECTIONS), "gusts": i32::try_from(random.between(0, 130)).unwrap_or(0) },
            },
            "crew": members(random),
            "steps": steps(random, &day, hour),
        };
        // Forms that were filled in by hand lack one thing or another.
        if random.one_in(6) {
            document.remove("weather");
        }
        if random.one_in(9) {
            document.insert("severity", Bson::Null);
        }
        document
    };
    (1..=REPORTS).map(one).collect()
}

fn members(random: &mut Random) -> Vec<Bson> {
    let count = random.between(1, 4);
    let member = |_| {
        let mut member = doc! { "memberId": format!("C-{:02}", random.between(1, CREW)), "role": random.pick(ROLES) };
        if random.one_in(3) {
            member.insert("hours", f64::from(i32::try_from(random.between(1, 20)).unwrap_or(1)) / 2.0);
        }
        Bson::Document(member)
    };
    (0..count).map(member).collect()
}

fn steps(random: &mut Random, day: &str, hour: i64) -> Vec<Bson> {
    let count = random.between(1, 4);
    let step = |number: i64| {
        let at = instant(day, hour + number / 2, 30 * (number % 2));
        Bson::Document(doc! { "at": at, "text": random.pick(STEPS) })
    };
    (0..count).map(step).collect()
}

fn gear(random: &mut Random, known: &Known) -> Vec<Document> {
    let one = |number: i64| {
        let hut = random.between(0, i64::try_from(known.codes.len()).unwrap_or(1) - 1);
        let price = format!("{}.{:02}", random.between(5, 900), random.between(0, 99));
        let price = price.parse::<Decimal128>().map_or(Bson::Null, Bson::Decimal128);
        doc! {
            "_id": id(2, number),
            "serial": 4_000_000_000_i64 + number * 7,
            "item": random.pick(GEAR),
            "state": random.pick(STATES),
            "hutCode": &known.codes[usize::try_from(hut).unwrap_or(0)],
            "price": price,
            "checks": (0..random.between(0, 3)).map(|_| Bson::Document(doc! {
                "on": instant(&date(-random.between(1, 900)), 9, 0),
                "by": format!("C-{:02}", random.between(1, CREW)),
                "passed": !random.one_in(5),
            })).collect::<Vec<Bson>>(),
        }
    };
    (1..=PIECES).map(one).collect()
}
