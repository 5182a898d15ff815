//! MariaDB's types as the API's scalars.

use puente_core::sql::{Dialect as _, Mariadb};
use puente_core::value::{Form, Scalar};

use crate::quoted::text_list;

/// What a column's type becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Judged {
    pub(super) scalar: Scalar,
    pub(super) form: Form,
    /// The texts of an enum.
    pub(super) values: Vec<String>,
    pub(super) notice: Option<String>,
}

/// The scalar of a type by its full name, such as `int(10) unsigned`. What has none is served as the engine's own text,
/// with a notice.
pub(super) fn judge(declared: &str) -> Judged {
    let base = declared.split(['(', ' ']).next().unwrap_or_default().to_ascii_lowercase();
    let unsigned = declared.contains("unsigned");
    let (scalar, form) = match base.as_str() {
        "tinyint" if declared.starts_with("tinyint(1)") => (Scalar::Boolean, Form::Usual),
        "boolean" | "bool" => (Scalar::Boolean, Form::Usual),
        "int" | "integer" if unsigned => (Scalar::BigInt, Form::Usual),
        "tinyint" | "smallint" | "mediumint" | "int" | "integer" | "year" => (Scalar::Int, Form::Usual),
        "bigint" if unsigned => (Scalar::BigInt, Form::Unsigned),
        "bigint" => (Scalar::BigInt, Form::Usual),
        "bit" if declared.starts_with("bit(1)") => (Scalar::Boolean, Form::Bits),
        "bit" => (Scalar::BigInt, Form::Bits),
        "decimal" | "numeric" => (Scalar::Decimal, Form::Usual),
        "float" => (Scalar::Float, Form::Single),
        "double" | "real" => (Scalar::Float, Form::Usual),
        "date" => (Scalar::Date, Form::Usual),
        "time" => (Scalar::Time, Form::Usual),
        "datetime" => (Scalar::LocalDateTime, Form::Usual),
        "timestamp" => (Scalar::DateTime, Form::Usual),
        "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "enum" => (Scalar::String, Form::Usual),
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => (Scalar::Bytes, Form::Usual),
        "uuid" => (Scalar::Uuid, Form::Usual),
        "json" => (Scalar::Json, Form::Usual),
        _ => {
            let notice = format!("`{declared}` has no type in the API: served as text, as the engine writes it");
            return Judged { scalar: Scalar::String, form: Form::EngineText, values: Vec::new(), notice: Some(notice) };
        }
    };
    let values = declared.strip_prefix("enum(").and_then(|list| text_list(list.strip_suffix(')')?)).unwrap_or_default();
    Judged { scalar, form, values, notice: None }
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
    #[case("tinyint(1)", Scalar::Boolean, Form::Usual)]
    #[case("tinyint(4)", Scalar::Int, Form::Usual)]
    #[case("int(10) unsigned", Scalar::BigInt, Form::Usual)]
    #[case("bigint(20) unsigned", Scalar::BigInt, Form::Unsigned)]
    #[case("bit(1)", Scalar::Boolean, Form::Bits)]
    #[case("timestamp", Scalar::DateTime, Form::Usual)]
    #[case("datetime(6)", Scalar::LocalDateTime, Form::Usual)]
    #[case("varbinary(16)", Scalar::Bytes, Form::Usual)]
    #[case("set('a','b')", Scalar::String, Form::EngineText)]
    fn types_become_scalars(#[case] declared: &str, #[case] scalar: Scalar, #[case] form: Form) {
        let judged = judge(declared);
        assert_eq!((judged.scalar, judged.form), (scalar, form));
        assert_eq!(judged.notice.is_some(), form == Form::EngineText);
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
