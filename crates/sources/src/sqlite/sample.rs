//! Judging columns by their declared type and by sampled values. SQLite stores what it is given; the survey looks.

use puente_core::value::{DatumRef, Scalar, StorageFormat, write_scalar};
use rusqlite::types::ValueRef;

/// What was seen of one column's values.
#[derive(Debug, Default, Clone)]
pub(super) struct Sample {
    integers: u64,
    big_integers: u64,
    reals: u64,
    texts: u64,
    blobs: u64,
    with_t: u64,
    utc: u64,
    instants: u64,
    upper_uuids: u64,
    /// Values of each scalar that columns are declared as which are none of it.
    unfit: [u64; DECLARED.len()],
}

/// Scalars that a declaration promises and values may break.
const DECLARED: [Scalar; 10] = [
    Scalar::Boolean,
    Scalar::BigInt,
    Scalar::Float,
    Scalar::Decimal,
    Scalar::Json,
    Scalar::Uuid,
    Scalar::Date,
    Scalar::Time,
    Scalar::LocalDateTime,
    Scalar::DateTime,
];

/// A judged column: its scalar, how values are written, and what is worth a word.
pub(super) struct Judged {
    pub(super) scalar: Scalar,
    pub(super) form: StorageFormat,
    pub(super) notice: Option<String>,
}

impl Sample {
    pub(super) fn see(&mut self, value: ValueRef<'_>) {
        let cell = super::run::cell(value);
        for (unfit, scalar) in self.unfit.iter_mut().zip(DECLARED) {
            *unfit += u64::from(write_scalar(&mut Vec::new(), scalar, cell).is_err());
        }
        match value {
            ValueRef::Null => {}
            ValueRef::Integer(number) => {
                self.integers += 1;
                self.big_integers += u64::from(i32::try_from(number).is_err());
            }
            ValueRef::Real(_) => self.reals += 1,
            ValueRef::Blob(_) => self.blobs += 1,
            ValueRef::Text(text) => {
                self.texts += 1;
                self.with_t += u64::from(text.get(10) == Some(&b'T'));
                self.utc += u64::from(text.ends_with(b"Z"));
                self.instants += u64::from(fits(Scalar::DateTime, text));
                self.upper_uuids += u64::from(text.iter().any(u8::is_ascii_uppercase) && fits(Scalar::Uuid, text));
            }
        }
    }

    fn numbers(&self) -> u64 {
        self.integers + self.reals
    }

    fn seen(&self) -> u64 {
        self.numbers() + self.texts + self.blobs
    }

    /// The scalar of a column, from its declared type first and its values second: where some are not what was declared, all are
    /// served as texts that they can be.
    pub(super) fn judge(&self, declared: &str) -> Judged {
        let judged = self.judge_declared(declared);
        if self.blobs > 0
            && self.blobs == self.seen()
            && !matches!(judged.scalar, Scalar::Bytes | Scalar::Json | Scalar::Uuid)
        {
            let notice = Some(format!("is declared `{declared}` and holds bytes alone: served as Bytes"));
            return Judged { scalar: Scalar::Bytes, form: StorageFormat::Usual, notice };
        }
        // Every integer is a `BigInt`.
        let counted = if judged.scalar == Scalar::Int { Scalar::BigInt } else { judged.scalar };
        let unfit = match DECLARED.iter().position(|scalar| *scalar == counted) {
            // Bytes are JSON in its binary form.
            Some(at) if judged.scalar == Scalar::Json => self.unfit[at].saturating_sub(self.blobs),
            Some(at) => self.unfit[at],
            None if judged.scalar == Scalar::Bytes => self.seen() - self.blobs,
            None => 0,
        };
        // A notice says that the values were looked at already.
        if unfit == 0 || judged.notice.is_some() {
            return judged;
        }
        let share = percent(unfit, self.seen());
        let held = format!("is declared `{declared}`, and {share} of its values are no {}", judged.scalar.name());
        let as_text = |form, how: &str| Judged {
            scalar: Scalar::String,
            form,
            notice: Some(format!("{held}: served as String{how}")),
        };
        let is_temporal =
            matches!(judged.scalar, Scalar::Date | Scalar::Time | Scalar::LocalDateTime | Scalar::DateTime);
        if is_temporal && unfit * 2 <= self.seen() {
            // The others are what was declared, and those are found and ordered as such.
            return Judged {
                notice: Some(format!("{held}: those are null, with an error that says which row")),
                ..judged
            };
        }
        match (judged.scalar, self.blobs, self.texts) {
            _ if is_temporal => as_text(StorageFormat::EngineText, ", as it is written"),
            (Scalar::Boolean, 0, 0) if self.reals == 0 => {
                let scalar = self.integer().scalar;
                Judged {
                    scalar,
                    form: StorageFormat::Usual,
                    notice: Some(format!("{held}: served as {}", scalar.name())),
                }
            }
            (Scalar::Int | Scalar::BigInt, 0, 0) => {
                let notice = Some(format!("{held}: served as Float"));
                Judged { scalar: Scalar::Float, form: StorageFormat::Usual, notice }
            }
            // Bytes that are none may be any text.
            (Scalar::Bytes, 0, _) if self.numbers() == 0 => as_text(StorageFormat::Usual, ""),
            (_, 0, _) => as_text(StorageFormat::EngineText, ", numbers as their digits"),
            // Bytes are no text: what does not fit is told where it is read.
            _ => Judged { notice: Some(format!("{held}: those cannot be served")), ..judged },
        }
    }

    fn judge_declared(&self, declared: &str) -> Judged {
        let word = declared.split('(').next().unwrap_or_default().trim().to_ascii_uppercase();
        let plain = |scalar| Judged { scalar, form: StorageFormat::Usual, notice: None };
        match word.as_str() {
            "BOOLEAN" | "BOOL" => plain(Scalar::Boolean),
            "DECIMAL" | "NUMERIC" | "DEC" | "MONEY" => plain(Scalar::Decimal),
            "JSON" | "JSONB" => plain(Scalar::Json),
            "UUID" | "GUID" => {
                let form = match (self.blobs > self.texts, self.upper_uuids * 2 > self.texts) {
                    (true, _) => StorageFormat::Binary,
                    (false, true) => StorageFormat::UpperCase,
                    (false, false) => StorageFormat::Usual,
                };
                Judged { form, ..plain(Scalar::Uuid) }
            }
            "DATE" => self.temporal(Scalar::Date, declared),
            "TIME" => self.temporal(Scalar::Time, declared),
            "DATETIME" | "TIMESTAMP" | "TIMESTAMPTZ" | "TIMESTAMP WITH TIME ZONE" => self.date_time(declared),
            _ if word.contains("BIG") || word == "INT8" => plain(Scalar::BigInt),
            _ if word.contains("INT") => self.integer(),
            _ if ["CHAR", "CLOB", "TEXT"].iter().any(|part| word.contains(part)) => plain(Scalar::String),
            _ if word.contains("BLOB") || word.contains("BINARY") => plain(Scalar::Bytes),
            _ if ["REAL", "FLOA", "DOUB"].iter().any(|part| word.contains(part)) => plain(Scalar::Float),
            _ => self.untyped(declared),
        }
    }

    fn integer(&self) -> Judged {
        let scalar = if self.big_integers > 0 { Scalar::BigInt } else { Scalar::Int };
        Judged { scalar, form: StorageFormat::Usual, notice: None }
    }

    fn temporal(&self, scalar: Scalar, declared: &str) -> Judged {
        if self.numbers() > self.texts {
            return self.as_number(declared);
        }
        Judged { scalar, form: StorageFormat::Usual, notice: None }
    }

    fn date_time(&self, declared: &str) -> Judged {
        if self.numbers() > self.texts {
            return self.as_number(declared);
        }
        let form = if self.with_t * 2 > self.texts { StorageFormat::WithT } else { StorageFormat::Usual };
        if self.instants == 0 {
            return Judged { scalar: Scalar::LocalDateTime, form, notice: None };
        }
        if self.instants == self.texts && self.utc == self.texts {
            return Judged { scalar: Scalar::DateTime, form, notice: None };
        }
        // Texts with different offsets do not sort as instants do: an order by them would be wrong.
        let notice =
            format!("is declared `{declared}` and mixes time zones: served as String, in the order of its text");
        Judged { scalar: Scalar::String, form: StorageFormat::Usual, notice: Some(notice) }
    }

    fn as_number(&self, declared: &str) -> Judged {
        let scalar = if self.reals > 0 { Scalar::Float } else { self.integer().scalar };
        let notice = format!("is declared `{declared}` and holds numbers: served as {}", scalar.name());
        Judged { scalar, form: StorageFormat::Usual, notice: Some(notice) }
    }

    /// No type, `ANY`, or a type that SQLite does not know: the values decide.
    fn untyped(&self, declared: &str) -> Judged {
        let scalar = match (self.integers, self.reals, self.texts, self.blobs) {
            (_, 0, 0, 0) if self.integers > 0 => self.integer().scalar,
            (_, reals, 0, 0) if reals > 0 => Scalar::Float,
            (0, 0, texts, 0) if texts > 0 => Scalar::String,
            (0, 0, 0, blobs) if blobs > 0 => Scalar::Bytes,
            (0, 0, 0, 0) => Scalar::String,
            // A text among numbers is a text, and so are numbers among texts.
            _ => Scalar::String,
        };
        let is_mixed = [self.numbers(), self.texts, self.blobs].iter().filter(|count| **count > 0).count() > 1;
        let what =
            if declared.is_empty() { "has no declared type".to_owned() } else { format!("is declared `{declared}`") };
        let (form, notice) = match is_mixed {
            true => (
                StorageFormat::EngineText,
                format!("{what} and holds values of different types: served as String, numbers as their digits"),
            ),
            false => (StorageFormat::Usual, format!("{what}: served as {}, as its values are", scalar.name())),
        };
        Judged { scalar, form, notice: Some(notice) }
    }
}

/// A share, in words.
fn percent(part: u64, whole: u64) -> String {
    match part * 100 / whole.max(1) {
        0 => "under 1 %".to_owned(),
        share => format!("{share} %"),
    }
}

fn fits(scalar: Scalar, text: &[u8]) -> bool {
    write_scalar(&mut Vec::new(), scalar, DatumRef::Text(text)).is_ok()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn sample(values: &[ValueRef<'_>]) -> Sample {
        let mut sample = Sample::default();
        values.iter().for_each(|value| sample.see(*value));
        sample
    }

    #[rstest]
    #[case("INTEGER", &[ValueRef::Integer(1)], Scalar::Int)]
    #[case("INTEGER", &[ValueRef::Integer(1 << 40)], Scalar::BigInt)]
    #[case("BIGINT", &[], Scalar::BigInt)]
    #[case("VARCHAR(20)", &[ValueRef::Integer(1)], Scalar::String)]
    #[case("DECIMAL(8,2)", &[], Scalar::Decimal)]
    #[case("DOUBLE PRECISION", &[], Scalar::Float)]
    #[case("DATE", &[ValueRef::Text(b"2026-01-01")], Scalar::Date)]
    #[case("DATE", &[ValueRef::Integer(1_700_000_000)], Scalar::Int)]
    #[case("TIMESTAMP", &[ValueRef::Text(b"2026-01-01 10:00:00")], Scalar::LocalDateTime)]
    #[case("TIMESTAMP", &[ValueRef::Text(b"2026-01-01T10:00:00Z")], Scalar::DateTime)]
    #[case("TIMESTAMP", &[ValueRef::Text(b"2026-01-01T10:00:00Z"), ValueRef::Text(b"2026-01-01T10:00:00+02:00")], Scalar::String)]
    #[case("", &[ValueRef::Text(b"x")], Scalar::String)]
    #[case("", &[ValueRef::Text(b"x"), ValueRef::Integer(1)], Scalar::String)]
    #[case("POINT", &[ValueRef::Blob(b"x"), ValueRef::Null], Scalar::Bytes)]
    #[case("DATE", &[ValueRef::Text(b"29/02/2024"), ValueRef::Text(b"01/03/2024")], Scalar::String)]
    #[case("DATE", &[ValueRef::Text(b"2024-02-29 00:00:00")], Scalar::String)]
    #[case("DATE", &[ValueRef::Text(b"2024-02-29"), ValueRef::Text(b"2024-03-01"), ValueRef::Text(b"soon")], Scalar::Date)]
    #[case("TIME", &[ValueRef::Text(b"10:30 PM")], Scalar::String)]
    #[case("DATETIME", &[ValueRef::Text(b"29.02.2024 10:30")], Scalar::String)]
    #[case("WOBBLE", &[ValueRef::Real(1.5)], Scalar::Float)]
    #[case("BLOB", &[], Scalar::Bytes)]
    #[case("POINT", &[], Scalar::Int)]
    #[case("INTEGER", &[ValueRef::Integer(1), ValueRef::Text(b"two")], Scalar::String)]
    #[case("INTEGER", &[ValueRef::Integer(1), ValueRef::Real(2.5)], Scalar::Float)]
    #[case("REAL", &[ValueRef::Real(2.5), ValueRef::Text(b"n/a")], Scalar::String)]
    #[case("BOOLEAN", &[ValueRef::Integer(1), ValueRef::Integer(2)], Scalar::Int)]
    #[case("BLOB", &[ValueRef::Text(b"x")], Scalar::String)]
    #[case("BLOB", &[ValueRef::Text(b"x"), ValueRef::Blob(b"y")], Scalar::Bytes)]
    #[case("JSON", &[ValueRef::Text(b"{}"), ValueRef::Text(b"{")], Scalar::String)]
    fn a_column_is_judged_by_declaration_and_values(
        #[case] declared: &str,
        #[case] values: &[ValueRef<'_>],
        #[case] scalar: Scalar,
    ) {
        assert_eq!(sample(values).judge(declared).scalar, scalar);
    }
}
