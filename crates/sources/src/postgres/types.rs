//! PostgreSQL's types as the API's scalars.

use puente_core::value::{Scalar, StorageFormat};

use crate::quoted::text_list;

/// A column's type as the catalog tells it, domains resolved.
#[derive(Debug, Clone)]
pub(super) struct TypeFound {
    /// The name in `pg_type`, such as `int4`; of an array its items' name.
    pub(super) name: String,
    /// The name for a cast: with its schema where it needs one.
    pub(super) cast: String,
    /// Is it an enum?
    pub(super) is_enum: bool,
    /// Is it an array?
    pub(super) is_array: bool,
    /// Is it declared as an array of arrays?
    pub(super) is_nested: bool,
}

/// What a type becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Judged {
    pub(super) scalar: Scalar,
    pub(super) form: StorageFormat,
    pub(super) list: bool,
    pub(super) cast: String,
    pub(super) notice: Option<String>,
}

/// Types with a scalar: their name in `pg_type`, the scalar, and what values are cast to.
const SCALARS: &[(&str, Scalar, &str)] = &[
    ("bool", Scalar::Boolean, "bool"),
    // Wider than the column: a number that no smallint can be is not an error, but equals none.
    ("int2", Scalar::Int, "int4"),
    ("int4", Scalar::Int, "int4"),
    ("int8", Scalar::BigInt, "int8"),
    ("float4", Scalar::Float, "float4"),
    ("float8", Scalar::Float, "float8"),
    ("numeric", Scalar::Decimal, "numeric"),
    ("text", Scalar::String, "text"),
    ("varchar", Scalar::String, "text"),
    ("bpchar", Scalar::String, "bpchar"),
    ("date", Scalar::Date, "date"),
    ("time", Scalar::Time, "time"),
    ("timestamp", Scalar::LocalDateTime, "timestamp"),
    ("timestamptz", Scalar::DateTime, "timestamptz"),
    ("interval", Scalar::Duration, "interval"),
    ("uuid", Scalar::Uuid, "uuid"),
    ("bytea", Scalar::Bytes, "bytea"),
    ("json", Scalar::Json, "json"),
    ("jsonb", Scalar::Json, "jsonb"),
];

/// The scalar of a type. What has none is served as the engine's own text, with a notice.
pub(super) fn judge(found: &TypeFound) -> Judged {
    let known = SCALARS.iter().find(|(name, _, _)| *name == found.name);
    let as_text = || Judged {
        scalar: Scalar::String,
        form: StorageFormat::EngineText,
        list: false,
        cast: "text".to_owned(),
        notice: Some(format!(
            "`{}{}` has no type in the API: served as text, as the engine writes it",
            found.name,
            if found.is_array { "[]" } else { "" }
        )),
    };
    match (known, found.is_array) {
        // Enums of arrays, and lists of JSON, have no form of their own here.
        (Some((_, Scalar::Json | Scalar::Duration, _)), true) => as_text(),
        (_, true) if found.is_nested => as_text(),
        (Some((_, scalar, cast)), list) => Judged {
            scalar: *scalar,
            form: StorageFormat::Usual,
            list,
            // Arrays are compared with arrays of exactly their own type.
            cast: if list { found.name.clone() } else { (*cast).to_owned() },
            notice: None,
        },
        (None, list) if found.is_enum => {
            Judged { scalar: Scalar::String, form: StorageFormat::Usual, list, cast: found.cast.clone(), notice: None }
        }
        (None, false) if found.name == "citext" => Judged {
            scalar: Scalar::String,
            form: StorageFormat::Usual,
            list: false,
            cast: found.cast.clone(),
            notice: None,
        },
        _ => as_text(),
    }
}

/// The texts of a check `column IN (…)`, as PostgreSQL writes it back: `CHECK ((state = ANY (ARRAY['a'::text, …])))`.
pub(super) fn checked_texts(definition: &str, column: &str) -> Option<Vec<String>> {
    let quoted = format!("\"{}\"", column.replace('"', "\"\""));
    let inner = definition.strip_prefix("CHECK ")?.trim_start_matches('(').trim_end_matches(')').trim();
    let inner = inner.strip_prefix(column).or_else(|| inner.strip_prefix(&quoted))?;
    let inner = inner.trim_start_matches(')').trim_start_matches("::text").trim();
    let items = inner.strip_prefix("= ANY (").or_else(|| inner.strip_prefix("= ANY(("))?;
    let items = items.trim_start_matches('(').strip_prefix("ARRAY[")?;
    // Texts may hold brackets; what follows the last one that ends the array may be a cast and its own.
    let end = items.find("])").or_else(|| items.rfind(']'))?;
    text_list(&items[..end])
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("CHECK ((state = ANY (ARRAY['a'::text, 'it''s'::text])))", "state", Some(vec!["a", "it's"]))]
    #[case("CHECK (((state)::text = ANY ((ARRAY['a'::character varying, 'b'::character varying])::text[])))", "state", Some(vec!["a", "b"]))]
    #[case("CHECK ((\"my state\" = ANY (ARRAY['no show'::text])))", "my state", Some(vec!["no show"]))]
    #[case("CHECK ((beds > 0))", "beds", None)]
    #[case("CHECK ((state <> 'a'::text))", "state", None)]
    fn texts_of_a_check_are_found(#[case] definition: &str, #[case] column: &str, #[case] expected: Option<Vec<&str>>) {
        let expected: Option<Vec<String>> = expected.map(|texts| texts.into_iter().map(str::to_owned).collect());
        assert_eq!(checked_texts(definition, column), expected);
    }

    #[test]
    fn what_has_no_scalar_is_text_with_a_notice() {
        let found = |name: &str, is_array| TypeFound {
            name: name.to_owned(),
            cast: name.to_owned(),
            is_enum: false,
            is_array,
            is_nested: false,
        };
        let judged = judge(&found("inet", false));
        assert_eq!((judged.scalar, judged.form), (Scalar::String, StorageFormat::EngineText));
        assert!(judged.notice.unwrap().contains("`inet`"));
        assert!(judge(&found("int2", true)).list && judge(&found("int2", true)).cast == "int2");
        assert_eq!(judge(&found("int2", false)).cast, "int4");
        assert_eq!(judge(&TypeFound { is_nested: true, ..found("int4", true) }).form, StorageFormat::EngineText);
    }
}
