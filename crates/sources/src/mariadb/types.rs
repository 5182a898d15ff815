//! MariaDB's types as the API's scalars.

use puente_core::value::{Scalar, StorageFormat};
use puente_sql::{Dialect as _, GEOMETRY, Mariadb};

use crate::quoted::text_list;

/// What a column's type becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Judged {
    pub(super) scalar: Scalar,
    pub(super) form: StorageFormat,
    /// The texts of an enum.
    pub(super) values: Vec<String>,
    /// What tells it apart from others of the same scalar.
    pub(super) cast: Option<&'static str>,
    pub(super) notice: Option<String>,
}

/// The scalar of a type by its full name, such as `int(10) unsigned`. What has none is served as the engine's own text,
/// with a notice.
pub(super) fn judge(declared: &str) -> Judged {
    let base = declared.split(['(', ' ']).next().unwrap_or_default().to_ascii_lowercase();
    let unsigned = declared.contains("unsigned");
    let (scalar, form) = match base.as_str() {
        "tinyint" if declared.starts_with("tinyint(1)") => (Scalar::Boolean, StorageFormat::Usual),
        "boolean" | "bool" => (Scalar::Boolean, StorageFormat::Usual),
        "int" | "integer" if unsigned => (Scalar::BigInt, StorageFormat::Usual),
        "tinyint" | "smallint" | "mediumint" | "int" | "integer" | "year" => (Scalar::Int, StorageFormat::Usual),
        "bigint" if unsigned => (Scalar::BigInt, StorageFormat::Unsigned),
        "bigint" => (Scalar::BigInt, StorageFormat::Usual),
        "bit" if declared.starts_with("bit(1)") => (Scalar::Boolean, StorageFormat::Bits),
        "bit" => (Scalar::BigInt, StorageFormat::Bits),
        "decimal" | "numeric" => (Scalar::Decimal, StorageFormat::Usual),
        "float" => (Scalar::Float, StorageFormat::Single),
        "double" | "real" => (Scalar::Float, StorageFormat::Usual),
        "date" => (Scalar::Date, StorageFormat::Usual),
        "time" => (Scalar::Time, StorageFormat::Usual),
        "datetime" => (Scalar::LocalDateTime, StorageFormat::Usual),
        "timestamp" => (Scalar::DateTime, StorageFormat::Usual),
        "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "enum" => {
            (Scalar::String, StorageFormat::Usual)
        }
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => {
            (Scalar::Bytes, StorageFormat::Usual)
        }
        "uuid" => (Scalar::Uuid, StorageFormat::Usual),
        "json" => (Scalar::Json, StorageFormat::Usual),
        "geometry" | "point" | "linestring" | "polygon" | "multipoint" | "multilinestring" | "multipolygon"
        | "geometrycollection" => {
            let notice = format!(
                "`{declared}` has no type in the API: served as well-known text, and not written: MariaDB takes a text that is \
                 none for null"
            );
            return Judged {
                scalar: Scalar::String,
                form: StorageFormat::EngineText,
                values: Vec::new(),
                cast: Some(GEOMETRY),
                notice: Some(notice),
            };
        }
        _ => {
            let notice = format!("`{declared}` has no type in the API: served as text, as the engine writes it");
            return Judged {
                scalar: Scalar::String,
                form: StorageFormat::EngineText,
                values: Vec::new(),
                cast: None,
                notice: Some(notice),
            };
        }
    };
    let values = declared.strip_prefix("enum(").and_then(|list| text_list(list.strip_suffix(')')?)).unwrap_or_default();
    // Told apart from texts that a check restricts: the two are ordered differently.
    let cast = declared.starts_with("enum(").then_some("enum");
    Judged { scalar, form, values, cast, notice: None }
}

/// The texts of a check such as `` `grade` in ('T1','T2')``.
pub(super) fn checked_texts(clause: &str, column: &str) -> Option<Vec<String>> {
    let list = clause.trim().strip_prefix(&quote(column))?.trim_start();
    let list = list.strip_prefix("in").or_else(|| list.strip_prefix("IN"))?.trim_start();
    text_list(list.strip_prefix('(')?.strip_suffix(')')?)
}

/// Is a check the one that makes a long text JSON?
pub(super) fn checks_json(clause: &str, column: &str) -> bool {
    clause.trim() == format!("json_valid({})", quote(column))
}

fn quote(column: &str) -> String {
    Mariadb.quote(column)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("tinyint(1)", Scalar::Boolean, StorageFormat::Usual)]
    #[case("tinyint(4)", Scalar::Int, StorageFormat::Usual)]
    #[case("int(10) unsigned", Scalar::BigInt, StorageFormat::Usual)]
    #[case("bigint(20) unsigned", Scalar::BigInt, StorageFormat::Unsigned)]
    #[case("bit(1)", Scalar::Boolean, StorageFormat::Bits)]
    #[case("timestamp", Scalar::DateTime, StorageFormat::Usual)]
    #[case("datetime(6)", Scalar::LocalDateTime, StorageFormat::Usual)]
    #[case("varbinary(16)", Scalar::Bytes, StorageFormat::Usual)]
    #[case("set('a','b')", Scalar::String, StorageFormat::EngineText)]
    #[case("point", Scalar::String, StorageFormat::EngineText)]
    fn types_become_scalars(#[case] declared: &str, #[case] scalar: Scalar, #[case] form: StorageFormat) {
        let judged = judge(declared);
        assert_eq!((judged.scalar, judged.form), (scalar, form));
        assert_eq!(judged.notice.is_some(), form == StorageFormat::EngineText);
    }

    #[test]
    fn texts_of_enums_and_checks_are_found() {
        assert_eq!(judge("enum('requested','no show','it''s')").values, ["requested", "no show", "it's"]);
        assert_eq!(checked_texts("`grade` in ('T1','T2')", "grade").unwrap(), ["T1", "T2"]);
        for (clause, column) in [("`beds` > 0", "beds"), ("`grade` in (1,2)", "grade"), ("`grade` in ('T1')", "name")] {
            assert_eq!(checked_texts(clause, column), None);
        }
        assert!(checks_json("json_valid(`report`)", "report"));
    }
}
