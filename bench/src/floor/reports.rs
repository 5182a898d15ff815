//! Reports that are JSON in the database, by hand: each is read whole, and what is asked for is written of it.

use std::borrow::Cow;

use serde::Deserialize;
use serde_json::Number;

use super::json::{integer, separate, string};

/// What a statement reads, whatever the engine.
pub(super) const REPORTS: &str = "select report from incidents order by id limit 20";

#[derive(Deserialize)]
struct Report<'j> {
    #[serde(borrow)]
    kind: Cow<'j, str>,
    severity: i64,
    weather: Option<Weather>,
    #[serde(borrow)]
    people: Vec<Person<'j>>,
}

#[derive(Deserialize)]
struct Weather {
    snow: i64,
    temperature: Number,
    wind: Wind,
}

#[derive(Deserialize)]
struct Wind {
    gusts: i64,
}

#[derive(Deserialize)]
struct Person<'j> {
    #[serde(borrow)]
    name: Cow<'j, str>,
    age: i64,
    injured: bool,
}

/// The answer of incidents of which nothing is asked for but their keys.
pub(super) fn incidents_of(ids: &[i64]) -> Vec<u8> {
    let mut out = Vec::with_capacity(512);
    out.extend_from_slice(b"{\"data\":{\"incidents\":{\"nodes\":[");
    let mut first = true;
    for id in ids {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        integer(&mut out, *id);
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    out
}

/// Writes the answer.
pub(super) struct Reports {
    out: Vec<u8>,
    first: bool,
}

impl Reports {
    pub(super) fn new() -> Self {
        let mut out = Vec::with_capacity(16 << 10);
        out.extend_from_slice(b"{\"data\":{\"incidents\":{\"nodes\":[");
        Reports { out, first: true }
    }

    pub(super) fn add(&mut self, json: &[u8]) {
        let report: Report<'_> = serde_json::from_slice(json).expect("a report");
        let out = &mut self.out;
        separate(out, &mut self.first);
        out.extend_from_slice(b"{\"report\":{\"kind\":");
        string(out, &report.kind);
        out.extend_from_slice(b",\"severity\":");
        integer(out, report.severity);
        match &report.weather {
            Some(weather) => {
                out.extend_from_slice(b",\"weather\":{\"snow\":");
                integer(out, weather.snow);
                out.extend_from_slice(b",\"temperature\":");
                out.extend_from_slice(weather.temperature.to_string().as_bytes());
                out.extend_from_slice(b",\"wind\":{\"gusts\":");
                integer(out, weather.wind.gusts);
                out.extend_from_slice(b"}}");
            }
            None => out.extend_from_slice(b",\"weather\":null"),
        }
        out.extend_from_slice(b",\"people\":[");
        let mut first = true;
        for person in &report.people {
            separate(out, &mut first);
            out.extend_from_slice(b"{\"name\":");
            string(out, &person.name);
            out.extend_from_slice(b",\"age\":");
            integer(out, person.age);
            out.extend_from_slice(if person.injured { b",\"injured\":true}" } else { b",\"injured\":false}" });
        }
        out.extend_from_slice(b"]}}");
    }

    pub(super) fn end(mut self) -> Vec<u8> {
        self.out.extend_from_slice(b"]}}}");
        self.out
    }
}
