//! Types of rows: what a database says of the columns of a statement.

use std::sync::Arc;

use super::{Member, Shape, Text, Type};

/// The type of a row by name, type name and whether it may be null, as the values come as JSON.
pub fn row<'c>(columns: impl IntoIterator<Item = (&'c str, &'c str, bool)>) -> Type {
    let mut shape = Shape::default();
    for (name, type_name, nullable) in columns {
        let value = match type_name.trim_end_matches(" UNSIGNED") {
            "BOOLEAN" => Type::BOOL,
            "TINYINT" | "SMALLINT" | "MEDIUMINT" | "INT" | "BIGINT" | "YEAR" | "FLOAT" | "DOUBLE" | "DECIMAL" => {
                Type::NUMBER
            }
            "JSON" | "" => Type::Unknown,
            "NULL" => Type::Null,
            "DATE" => Type::Text(Text::Date),
            "DATETIME" | "TIMESTAMP" => Type::INSTANT,
            _ => Type::TEXT,
        };
        let value = if nullable { value.or(Type::Null) } else { value };
        shape.members.push(Member { name: name.into(), value, optional: false });
    }
    Type::Object(Arc::new(shape))
}
