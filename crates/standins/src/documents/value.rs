//! Values of BSON, and their order ("Comparison/Sort Order" of the server's documentation).

use std::cmp::Ordering;

use super::decimal::Decimal;

/// Names and values, in order.
pub type Document = Vec<(String, Value)>;

/// A value.
#[derive(Debug, Clone)]
pub enum Value {
    Double(f64),
    Text(String),
    Document(Document),
    Array(Vec<Value>),
    Binary(u8, Vec<u8>),
    ObjectId([u8; 12]),
    Bool(bool),
    /// Milliseconds since 1970.
    Date(i64),
    Null,
    Regex(String, String),
    Code(String),
    Int(i32),
    /// Seconds since 1970, and a number within the second.
    Timestamp(u32, u32),
    Long(i64),
    Decimal(Decimal),
    MinKey,
    MaxKey,
}

/// A document of pairs.
pub fn document<const N: usize>(pairs: [(&str, Value); N]) -> Document {
    pairs.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
}

/// A field of a document.
pub fn field<'a>(document: &'a [(String, Value)], name: &str) -> Option<&'a Value> {
    document.iter().find(|(own, _)| own == name).map(|(_, value)| value)
}

/// Gives a field a value, in its place where it is there.
pub fn set(document: &mut Document, name: &str, value: Value) {
    match document.iter_mut().find(|(own, _)| own == name) {
        Some((_, own)) => *own = value,
        None => document.push((name.to_owned(), value)),
    }
}

impl Value {
    pub fn text(text: impl Into<String>) -> Value {
        Value::Text(text.into())
    }

    pub fn as_document(&self) -> Option<&Document> {
        match self {
            Value::Document(document) => Some(document),
            _ => None,
        }
    }

    pub fn as_array(&self) -> Option<&[Value]> {
        match self {
            Value::Array(values) => Some(values),
            _ => None,
        }
    }

    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The number, rounded where it has more digits than a double.
    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Value::Double(value) => Some(*value),
            Value::Int(value) => Some((*value).into()),
            Value::Long(value) => Some(*value as f64),
            Value::Decimal(value) => Some(value.as_f64()),
            _ => None,
        }
    }

    /// The number, if it is whole.
    pub fn as_i64(&self) -> Option<i64> {
        match self {
            Value::Int(value) => Some((*value).into()),
            Value::Long(value) => Some(*value),
            _ => self.as_f64().filter(|value| value.fract() == 0.0 && value.abs() < 9e18).map(|value| value as i64),
        }
    }

    /// A whole number in the smallest type that holds it.
    pub fn whole(value: i64) -> Value {
        i32::try_from(value).map_or(Value::Long(value), Value::Int)
    }

    /// Whether a condition holds that has this value.
    pub fn holds(&self) -> bool {
        match self {
            Value::Bool(value) => *value,
            Value::Null => false,
            other => other.as_f64() != Some(0.0),
        }
    }

    /// The name of its type, as `$type` has it.
    pub fn kind(&self) -> &'static str {
        match self {
            Value::Double(_) => "double",
            Value::Text(_) => "string",
            Value::Document(_) => "object",
            Value::Array(_) => "array",
            Value::Binary(..) => "binData",
            Value::ObjectId(_) => "objectId",
            Value::Bool(_) => "bool",
            Value::Date(_) => "date",
            Value::Null => "null",
            Value::Regex(..) => "regex",
            Value::Code(_) => "javascript",
            Value::Int(_) => "int",
            Value::Timestamp(..) => "timestamp",
            Value::Long(_) => "long",
            Value::Decimal(_) => "decimal",
            Value::MinKey => "minKey",
            Value::MaxKey => "maxKey",
        }
    }

    /// Whether it is of a type, by name or by number.
    pub fn is_of(&self, wanted: &Value) -> bool {
        const NUMBERS: &[(i64, &str)] = &[
            (1, "double"),
            (2, "string"),
            (3, "object"),
            (4, "array"),
            (5, "binData"),
            (7, "objectId"),
            (8, "bool"),
            (9, "date"),
            (10, "null"),
            (11, "regex"),
            (13, "javascript"),
            (16, "int"),
            (17, "timestamp"),
            (18, "long"),
            (19, "decimal"),
            (-1, "minKey"),
            (127, "maxKey"),
        ];
        match wanted {
            Value::Text(name) if name == "number" => self.as_f64().is_some(),
            Value::Text(name) => self.kind() == name,
            other => other.as_i64().is_some_and(|number| NUMBERS.contains(&(number, self.kind()))),
        }
    }

    fn rank(&self) -> u8 {
        match self {
            Value::MinKey => 0,
            Value::Null => 1,
            Value::Double(_) | Value::Int(_) | Value::Long(_) | Value::Decimal(_) => 2,
            Value::Text(_) => 3,
            Value::Document(_) => 4,
            Value::Array(_) => 5,
            Value::Binary(..) => 6,
            Value::ObjectId(_) => 7,
            Value::Bool(_) => 8,
            Value::Date(_) => 9,
            Value::Timestamp(..) => 10,
            Value::Regex(..) => 11,
            Value::Code(_) => 12,
            Value::MaxKey => 13,
        }
    }

    /// Whether both are of kinds that are compared with each other.
    pub fn is_like(&self, other: &Value) -> bool {
        self.rank() == other.rank()
    }
}

fn numbers(left: &Value, right: &Value) -> Ordering {
    match (left, right) {
        (Value::Int(_) | Value::Long(_), Value::Int(_) | Value::Long(_)) => left.as_i64().cmp(&right.as_i64()),
        (Value::Decimal(left), Value::Decimal(right)) => left.compare(right),
        _ => {
            let (left, right) = (left.as_f64().unwrap_or(f64::NAN), right.as_f64().unwrap_or(f64::NAN));
            // NaN is less than all numbers.
            left.partial_cmp(&right).unwrap_or_else(|| right.is_nan().cmp(&left.is_nan()))
        }
    }
}

impl Ord for Value {
    fn cmp(&self, other: &Value) -> Ordering {
        match (self, other) {
            (Value::Text(left), Value::Text(right)) | (Value::Code(left), Value::Code(right)) => left.cmp(right),
            (Value::Array(left), Value::Array(right)) => left.cmp(right),
            (Value::Binary(left_kind, left), Value::Binary(right_kind, right)) => {
                (left.len(), left_kind, left).cmp(&(right.len(), right_kind, right))
            }
            (Value::ObjectId(left), Value::ObjectId(right)) => left.cmp(right),
            (Value::Bool(left), Value::Bool(right)) => left.cmp(right),
            (Value::Date(left), Value::Date(right)) => left.cmp(right),
            (Value::Timestamp(left, low), Value::Timestamp(right, right_low)) => (left, low).cmp(&(right, right_low)),
            (Value::Regex(left, options), Value::Regex(right, other)) => (left, options).cmp(&(right, other)),
            // Of each field its type first, then its name, then its value.
            (Value::Document(left), Value::Document(right)) => {
                let key = |(name, value): &(String, Value)| (value.rank(), name.clone(), value.clone());
                left.iter().map(key).cmp(right.iter().map(key))
            }
            _ if self.rank() == 2 && other.rank() == 2 => numbers(self, other),
            _ => self.rank().cmp(&other.rank()),
        }
    }
}

impl PartialOrd for Value {
    fn partial_cmp(&self, other: &Value) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Value {
    fn eq(&self, other: &Value) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Value {}

/// What is found at a path; lists on the way are gone through, as an expression does.
pub fn at_path(document: &[(String, Value)], path: &str) -> Option<Value> {
    let (first, rest) = path.split_once('.').map_or((path, None), |(first, rest)| (first, Some(rest)));
    let value = field(document, first)?;
    match (rest, value) {
        (None, value) => Some(value.clone()),
        (Some(rest), Value::Document(inside)) => at_path(inside, rest),
        (Some(rest), Value::Array(values)) => Some(Value::Array(
            values.iter().filter_map(Value::as_document).filter_map(|inside| at_path(inside, rest)).collect(),
        )),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_have_the_order_of_their_types() {
        let number = |text: &str| Value::Decimal(Decimal::parse(text).unwrap());
        let in_order = [
            Value::MinKey,
            Value::Null,
            Value::Double(f64::NAN),
            Value::Long(-5_000_000_000),
            Value::Double(-1.5),
            Value::Int(2),
            number("2.5"),
            Value::Long(3),
            Value::text(""),
            Value::text("Ebb"),
            Value::text("ebb"),
            Value::Document(Document::new()),
            Value::Document(document([("a", Value::Int(1))])),
            Value::Array(Vec::new()),
            Value::Array(vec![Value::Int(1)]),
            Value::Binary(0, vec![9]),
            Value::Binary(0, vec![1, 1]),
            Value::ObjectId([1; 12]),
            Value::Bool(false),
            Value::Bool(true),
            Value::Date(-1),
            Value::Timestamp(1, 0),
            Value::Regex("a".into(), String::new()),
            Value::MaxKey,
        ];
        for (place, left) in in_order.iter().enumerate() {
            for (other, right) in in_order.iter().enumerate() {
                assert_eq!(left.cmp(right), place.cmp(&other), "{left:?} {right:?}");
            }
        }
        assert_eq!(Value::Int(2), Value::Double(2.0));
        assert_eq!(Value::Long(2), number("2.00"));
    }

    #[test]
    fn paths_go_through_documents_and_lists() {
        let line = |n| Value::Document(document([("n", Value::Int(n))]));
        let one = document([
            ("place", Value::Document(document([("x", Value::Int(1))]))),
            ("lines", Value::Array(vec![line(1), Value::Int(5), line(2)])),
        ]);
        assert_eq!(at_path(&one, "place.x"), Some(Value::Int(1)));
        assert_eq!(at_path(&one, "lines.n"), Some(Value::Array(vec![Value::Int(1), Value::Int(2)])));
        assert_eq!((at_path(&one, "place.y"), at_path(&one, "place.x.z")), (None, None));
    }
}
