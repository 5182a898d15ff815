//! What rules take from the caller's claims: values that meet columns, and facts that the claims alone decide.
//!
//! Nothing of a claim is guessed: a value that is absent, null or of another type than what it is compared with is
//! unknown, and what is unknown never allows anything.

use jiff::civil::DateTime;
use jiff::tz::Offset;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Map, Value as Json};

use super::number::digits;
use super::{Comparison, MOST_DIGITS, TextTest};
use crate::model::{Element, FieldType, Model};
use crate::value::{Datum, Scalar, StorageFormat, datum_from_json, instant};

/// Who is asking, as far as rules are concerned.
#[derive(Debug, Clone, Copy)]
pub struct Claims<'a> {
    /// The verified claims (RFC 7519, section 4).
    pub members: &'a Map<String, Json>,
    /// When the request was received.
    pub now: Timestamp,
}

/// Where a claim is: the names of members, from the outside in.
pub(super) type ClaimPath = Vec<String>;

/// A value that a rule takes from the claims, to be compared with a column.
#[derive(Debug, Clone, PartialEq)]
pub struct ClaimValue {
    /// Where it comes from.
    pub from: ClaimSource,
    /// The type of what it is compared with.
    pub kind: FieldType,
    /// How that is stored.
    pub form: StorageFormat,
    /// One value, or a list?
    pub shape: ClaimShape,
}

/// Where a value comes from.
#[derive(Debug, Clone, PartialEq)]
pub enum ClaimSource {
    /// A claim.
    Claim(ClaimPath),
    /// A claim that is calculated with: unknown with more digits than rules calculate with.
    Number(ClaimPath),
    /// A time.
    Time(TimeTerm),
    /// A time that is calculated with: its microseconds since 1970.
    Microseconds(TimeTerm),
}

/// A time that the request decides.
#[derive(Debug, Clone, PartialEq)]
pub struct TimeTerm {
    /// From where it counts.
    pub from: TimeOrigin,
    /// How much later than that it is.
    pub later: SignedDuration,
}

/// The beginning of 1970, from which NumericDate and microseconds count.
fn epoch() -> DateTime {
    jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0)
}

/// From where a time counts.
#[derive(Debug, Clone, PartialEq)]
pub enum TimeOrigin {
    /// The time of the request.
    Now,
    /// A claim: a text (RFC 3339), or seconds since 1970 (RFC 7519's NumericDate).
    Claim(ClaimPath),
    /// What the rule states.
    Stated(DateTime),
}

impl TimeTerm {
    /// The time of the request.
    pub fn now() -> Self {
        TimeTerm { from: TimeOrigin::Now, later: SignedDuration::ZERO }
    }

    /// The same, so much later; none beyond what can be counted.
    pub fn plus(self, more: SignedDuration) -> Option<Self> {
        Some(TimeTerm { later: self.later.checked_add(more)?, ..self })
    }

    /// The time for these claims, in UTC; none where it is unknown.
    fn time(&self, claims: &Claims<'_>) -> Option<DateTime> {
        let from = match &self.from {
            TimeOrigin::Now => Offset::UTC.to_datetime(claims.now),
            TimeOrigin::Stated(time) => *time,
            TimeOrigin::Claim(path) => match claims.find(path)? {
                Json::String(text) => instant(text)?,
                Json::Number(seconds) => epoch().checked_add(SignedDuration::from_secs(seconds.as_i64()?)).ok()?,
                _ => return None,
            },
        };
        from.checked_add(self.later).ok()
    }
}

/// How many values a claim has to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClaimShape {
    /// One.
    One,
    /// A list.
    List,
    /// One, which is bound as a list of one.
    ListOfOne,
}

/// A condition on the claims alone.
#[derive(Debug, Clone, PartialEq)]
pub enum ClaimPredicate {
    /// The claim is true.
    Holds(ClaimPath),
    /// The claim is there, and not null.
    Has(ClaimPath),
    /// The claim is there, and null (or not).
    IsNull(ClaimPath, bool),
    /// A comparison.
    Compare(ClaimTerm, Comparison, ClaimTerm),
    /// Is one among a list?
    In(ClaimTerm, ClaimTerm),
    /// Is one a part of the other?
    Text(ClaimTerm, TextTest, ClaimTerm),
    /// A comparison of times.
    Times(TimeTerm, Comparison, TimeTerm),
}

/// One side of a fact.
#[derive(Debug, Clone, PartialEq)]
pub enum ClaimTerm {
    /// A claim.
    Claim(ClaimPath),
    /// How many characters, items or members a claim has.
    Size(ClaimPath),
    /// What the rule states.
    Constant(Json),
}

impl<'a> Claims<'a> {
    fn find(&self, path: &[String]) -> Option<&'a Json> {
        claim_at(self.members, path)
    }
}

/// The claim at the end of a path of names, from the outside in.
pub fn claim_at<'a>(members: &'a Map<String, Json>, path: &[String]) -> Option<&'a Json> {
    let (first, rest) = path.split_first()?;
    rest.iter().try_fold(members.get(first)?, |value, step| value.as_object()?.get(step))
}

impl ClaimValue {
    /// The value for these claims; null where it is unknown.
    pub(super) fn cell(&self, model: &Model, claims: &Claims<'_>) -> Datum {
        self.known(model, claims).unwrap_or(Datum::Null)
    }

    fn known(&self, model: &Model, claims: &Claims<'_>) -> Option<Datum> {
        let value = match &self.from {
            ClaimSource::Time(time) => return self.time(time.time(claims)?),
            ClaimSource::Microseconds(time) => {
                let since = time.time(claims)?.duration_since(epoch());
                return Some(Datum::Text(since.as_micros().to_string()));
            }
            ClaimSource::Number(path) => {
                let number = canonical(model, self.kind, self.form, claims.find(path)?)?;
                return Some(number).filter(|number| digits(number) <= MOST_DIGITS);
            }
            ClaimSource::Claim(path) => claims.find(path)?,
        };
        let one = |value: &Json| canonical(model, self.kind, self.form, value);
        match self.shape {
            ClaimShape::One => one(value),
            ClaimShape::ListOfOne => one(value).map(|cell| Datum::List(vec![cell])),
            // One item that is unknown makes the whole list so.
            ClaimShape::List => value.as_array()?.iter().map(one).collect::<Option<_>>().map(Datum::List),
        }
    }

    /// A time, in UTC, as the column keeps it.
    fn time(&self, time: DateTime) -> Option<Datum> {
        let FieldType::Scalar(scalar) = self.kind else { return None };
        let text = match scalar {
            Scalar::Date => time.date().to_string(),
            Scalar::LocalDateTime => time.to_string(),
            _ => format!("{time}Z"),
        };
        datum_from_json(scalar, self.form, &Json::String(text)).ok()
    }
}

/// A claim as a cell of a column's type, from the type's own form only: `"7"` is 7, `"07"`, `7.5` and `true` are not.
fn canonical(model: &Model, kind: FieldType, form: StorageFormat, value: &Json) -> Option<Datum> {
    let scalar = match kind {
        FieldType::Enum(id) | FieldType::List(Element::Enum(id)) => {
            let meant = model.enums[id].meant(value.as_str()?);
            return meant.map(|text| Datum::Text(text.to_owned()));
        }
        FieldType::Scalar(scalar) | FieldType::List(Element::Scalar(scalar)) => scalar,
        FieldType::Object(_) | FieldType::Items(_) => Scalar::Json,
    };
    let value = match (scalar, value) {
        (Scalar::Int | Scalar::BigInt | Scalar::Decimal | Scalar::Float, Json::String(text)) => {
            Json::Number(number(text)?)
        }
        (Scalar::Uuid | Scalar::ObjectId, Json::String(text)) if text.bytes().any(|byte| byte.is_ascii_uppercase()) => {
            return None;
        }
        (_, value) => value.clone(),
    };
    if scalar == Scalar::Int && value.is_f64() {
        return None;
    }
    datum_from_json(scalar, form, &value).ok()
}

/// A number from its one plain form: no plus sign, no leading zero, no exponent.
fn number(text: &str) -> Option<serde_json::Number> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, "0"));
    let all_digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    let leading_zero = whole.len() > 1 && whole.starts_with('0');
    if !all_digits(whole) || !all_digits(fraction) || leading_zero || text == "-0" {
        return None;
    }
    let number: serde_json::Number = serde_json::from_str(text).ok()?;
    // A number that JSON would keep with fewer digits is not the one that was said.
    (number.to_string() == text).then_some(number)
}

impl ClaimPredicate {
    /// What the claims decide; none where it is unknown.
    pub(super) fn decide(&self, claims: &Claims<'_>) -> Option<bool> {
        match self {
            ClaimPredicate::Holds(path) => claims.find(path)?.as_bool(),
            ClaimPredicate::Has(path) => Some(claims.find(path).is_some_and(|value| !value.is_null())),
            ClaimPredicate::IsNull(path, expected) => Some(claims.find(path)?.is_null() == *expected),
            ClaimPredicate::Compare(one, comparison, other) => {
                compare(&one.value(claims)?, *comparison, &other.value(claims)?)
            }
            ClaimPredicate::In(one, list) => {
                let one = one.value(claims)?;
                let list = list.value(claims)?;
                let equal = |item: &Json| compare(&one, Comparison::Eq, item);
                let found: Option<Vec<bool>> = list.as_array()?.iter().map(equal).collect();
                Some(found?.contains(&true))
            }
            ClaimPredicate::Times(one, comparison, other) => {
                Some(comparison.holds(one.time(claims)?.cmp(&other.time(claims)?)))
            }
            ClaimPredicate::Text(whole, test, part) => {
                let (whole, part) = (whole.value(claims)?, part.value(claims)?);
                let (whole, part) = (whole.as_str()?, part.as_str()?);
                Some(match test {
                    TextTest::Contains => whole.contains(part),
                    TextTest::StartsWith => whole.starts_with(part),
                    TextTest::EndsWith => whole.ends_with(part),
                })
            }
        }
    }
}

impl ClaimTerm {
    fn value(&self, claims: &Claims<'_>) -> Option<Json> {
        match self {
            ClaimTerm::Constant(value) => Some(value.clone()),
            ClaimTerm::Claim(path) => claims.find(path).cloned(),
            ClaimTerm::Size(path) => match claims.find(path)? {
                Json::String(text) => Some(text.chars().count().into()),
                Json::Array(items) => Some(items.len().into()),
                Json::Object(members) => Some(members.len().into()),
                _ => None,
            },
        }
    }
}

/// Compares two values of the same type; a text that is a number in its plain form is one beside a number.
fn compare(one: &Json, comparison: Comparison, other: &Json) -> Option<bool> {
    let order = match (one, other) {
        (Json::Bool(one), Json::Bool(other)) => one.cmp(other),
        (Json::String(one), Json::String(other)) => one.cmp(other),
        (Json::Number(one), Json::Number(other)) => order(one, other)?,
        (Json::String(one), Json::Number(other)) => order(&number(one)?, other)?,
        (Json::Number(one), Json::String(other)) => order(one, &number(other)?)?,
        _ => return None,
    };
    Some(comparison.holds(order))
}

fn order(one: &serde_json::Number, other: &serde_json::Number) -> Option<std::cmp::Ordering> {
    let whole =
        |number: &serde_json::Number| number.as_i64().map(i128::from).or_else(|| number.as_u64().map(i128::from));
    match (whole(one), whole(other)) {
        (Some(one), Some(other)) => Some(one.cmp(&other)),
        _ => one.as_f64()?.partial_cmp(&other.as_f64()?),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn cell(scalar: Scalar, value: Json) -> Option<Datum> {
        let model = Model {
            notices: Vec::new(),
            version: String::new(),
            sources: Vec::new(),
            types: Vec::new(),
            objects: Vec::new(),
            enums: Vec::new(),
            names: Vec::new(),
            global_ids: false,
        };
        canonical(&model, FieldType::Scalar(scalar), StorageFormat::Usual, &value)
    }

    #[rstest]
    #[case(Scalar::Int, json!("7"), Some(Datum::Integer(7)))]
    #[case(Scalar::Int, json!(7), Some(Datum::Integer(7)))]
    #[case(Scalar::Int, json!("07"), None)]
    #[case(Scalar::Int, json!("+7"), None)]
    #[case(Scalar::Int, json!(" 7"), None)]
    #[case(Scalar::Int, json!(7.0), None)]
    #[case(Scalar::Int, json!("7.0"), None)]
    #[case(Scalar::Int, json!(7.5), None)]
    #[case(Scalar::Int, json!(true), None)]
    #[case(Scalar::Int, json!([7]), None)]
    #[case(Scalar::Int, json!({ "id": 7 }), None)]
    #[case(Scalar::Int, json!(2_147_483_648_i64), None)]
    #[case(Scalar::BigInt, json!("9007199254740993"), Some(Datum::Integer(9_007_199_254_740_993)))]
    #[case(Scalar::String, json!("7"), Some(Datum::Text("7".into())))]
    #[case(Scalar::String, json!(7), None)]
    #[case(Scalar::Boolean, json!("true"), None)]
    #[case(Scalar::Boolean, json!(1), None)]
    #[case(Scalar::Date, json!("2026-02-30"), None)]
    #[case(Scalar::Uuid, json!("AAAAAAAA-0000-0000-0000-000000000001"), None)]
    fn a_claim_is_taken_in_its_plain_form_only(
        #[case] scalar: Scalar,
        #[case] value: Json,
        #[case] expected: Option<Datum>,
    ) {
        assert_eq!(cell(scalar, value), expected);
    }

    #[rstest]
    #[case(ClaimPredicate::Holds(vec!["admin".into()]), Some(true))]
    #[case(ClaimPredicate::Holds(vec!["sub".into()]), None)]
    #[case(ClaimPredicate::Holds(vec!["absent".into()]), None)]
    #[case(ClaimPredicate::Has(vec!["absent".into()]), Some(false))]
    #[case(ClaimPredicate::Has(vec!["nothing".into()]), Some(false))]
    #[case(ClaimPredicate::Has(vec!["org".into(), "id".into()]), Some(true))]
    #[case(ClaimPredicate::IsNull(vec!["nothing".into()], true), Some(true))]
    #[case(ClaimPredicate::IsNull(vec!["absent".into()], true), None)]
    #[case(ClaimPredicate::Compare(ClaimTerm::Claim(vec!["sub".into()]), Comparison::Eq, ClaimTerm::Constant(json!(7))), Some(true))]
    #[case(ClaimPredicate::Compare(ClaimTerm::Claim(vec!["admin".into()]), Comparison::Ne, ClaimTerm::Constant(json!(7))), None)]
    #[case(ClaimPredicate::In(ClaimTerm::Constant(json!("a")), ClaimTerm::Claim(vec!["groups".into()])), Some(true))]
    #[case(ClaimPredicate::In(ClaimTerm::Constant(json!("a")), ClaimTerm::Claim(vec!["mixed".into()])), None)]
    #[case(ClaimPredicate::Compare(ClaimTerm::Size(vec!["groups".into()]), Comparison::Gt, ClaimTerm::Constant(json!(1))), Some(true))]
    fn facts_are_decided_by_claims_that_fit_and_unknown_otherwise(
        #[case] claim_predicate: ClaimPredicate,
        #[case] expected: Option<bool>,
    ) {
        let members = json!({
            "sub": "7", "admin": true, "nothing": null, "groups": ["a", "b"], "mixed": ["a", null], "org": { "id": 3 },
        });
        let members = members.as_object().unwrap();
        assert_eq!(claim_predicate.decide(&Claims { members, now: Timestamp::UNIX_EPOCH }), expected);
    }

    #[rstest]
    #[case(json!("9999-12-31T23:59:59Z"))]
    #[case(json!("9999-12-31T23:59:59+00:00"))]
    #[case(json!(253_402_300_799_i64))]
    fn the_last_second_of_the_calendar_is_a_time(#[case] until: Json) {
        let members = json!({ "until": until });
        let claims = Claims { members: members.as_object().unwrap(), now: Timestamp::UNIX_EPOCH };
        let until = TimeTerm { from: TimeOrigin::Claim(vec!["until".into()]), later: SignedDuration::ZERO };
        assert_eq!(ClaimPredicate::Times(until.clone(), Comparison::Gt, TimeTerm::now()).decide(&claims), Some(true));
        assert_eq!(until.time(&claims).unwrap().to_string(), "9999-12-31T23:59:59");
    }

    #[test]
    fn the_time_of_the_ask_takes_the_form_of_its_column() {
        let time = |scalar| {
            let value = ClaimValue {
                from: ClaimSource::Time(TimeTerm::now()),
                kind: FieldType::Scalar(scalar),
                form: StorageFormat::Usual,
                shape: ClaimShape::One,
            };
            value.time(instant("2026-07-14T23:30:00Z").unwrap()).unwrap()
        };
        assert_eq!(time(Scalar::Date), Datum::Text("2026-07-14".into()));
        assert_eq!(time(Scalar::LocalDateTime), Datum::Text("2026-07-14 23:30:00".into()));
        assert_eq!(time(Scalar::DateTime), Datum::Text("2026-07-14 23:30:00Z".into()));
    }
}
