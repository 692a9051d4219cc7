//! Where a column of a result comes from, where the server tells; it travels in the field's metadata.

use arrow_schema::Field;

const SCHEMA: &str = "origin_schema";
const TABLE: &str = "origin_table";
const COLUMN: &str = "origin_column";
const REQUIRED: &str = "origin_required";

/// A column of a table, as the origin of a column of a result.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Origin {
    /// Its schema, or database; may be empty.
    pub schema: String,
    /// Its table.
    pub table: String,
    /// Its name there.
    pub column: String,
    /// Whether every row of the table has a value. A result may still have none, as of an outer join:
    /// so the field itself is never marked as one without NULL.
    pub required: bool,
}

impl Origin {
    /// What a field tells of it.
    pub fn of(field: &Field) -> Option<Origin> {
        let told = |key: &str| field.metadata().get(key).cloned();
        Some(Origin {
            schema: told(SCHEMA).unwrap_or_default(),
            table: told(TABLE)?,
            column: told(COLUMN)?,
            required: told(REQUIRED).is_some(),
        })
    }

    /// What a field's metadata says of it.
    pub fn metadata(&self) -> impl Iterator<Item = (String, String)> {
        let required = self.required.then_some((REQUIRED, "yes"));
        let told = [(SCHEMA, self.schema.as_str()), (TABLE, &self.table), (COLUMN, &self.column)];
        let told: Vec<_> =
            told.into_iter().chain(required).map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
        told.into_iter()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use arrow_schema::DataType;

    use super::*;

    #[test]
    fn what_a_field_is_told_it_tells() {
        for required in [false, true] {
            let origin = Origin { schema: "main".into(), table: "ports".into(), column: "code".into(), required };
            let field =
                Field::new("port", DataType::Utf8, true).with_metadata(origin.metadata().collect::<HashMap<_, _>>());
            assert_eq!(Origin::of(&field), Some(origin));
        }
        assert_eq!(Origin::of(&Field::new("port", DataType::Utf8, true)), None);
    }
}
