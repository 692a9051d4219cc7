//! Operators of numbers.

use super::{Found, arguments, exactly, is_nothing};
use crate::documents::failure::Failure;
use crate::documents::scope::Frame;
use crate::documents::value::Value;

/// The sum of two numbers, in the wider of their types.
pub fn plus(left: &Value, right: &Value) -> Option<Value> {
    Some(match (left, right) {
        (Value::Decimal(left), Value::Decimal(right)) => Value::Decimal(left.plus(*right)?),
        (Value::Decimal(decimal), other) | (other, Value::Decimal(decimal)) => {
            let text =
                other.as_i64().map(|value| value.to_string()).or(other.as_f64().map(|value| value.to_string()))?;
            Value::Decimal(decimal.plus(super::Decimal::parse(&text)?)?)
        }
        (Value::Int(left), Value::Int(right)) => Value::whole(i64::from(*left) + i64::from(*right)),
        (Value::Int(_) | Value::Long(_), Value::Int(_) | Value::Long(_)) => {
            Value::Long(left.as_i64()?.checked_add(right.as_i64()?)?)
        }
        _ => Value::Double(left.as_f64()? + right.as_f64()?),
    })
}

fn times(left: &Value, right: &Value) -> Option<Value> {
    Some(match (left, right) {
        (Value::Decimal(left), Value::Decimal(right)) => Value::Decimal(left.times(*right)?),
        (Value::Decimal(decimal), other) | (other, Value::Decimal(decimal)) => {
            let text =
                other.as_i64().map(|value| value.to_string()).or(other.as_f64().map(|value| value.to_string()))?;
            Value::Decimal(decimal.times(super::Decimal::parse(&text)?)?)
        }
        (Value::Double(_), _) | (_, Value::Double(_)) => Value::Double(left.as_f64()? * right.as_f64()?),
        _ => {
            let product = left.as_i64()?.checked_mul(right.as_i64()?)?;
            if let (Value::Int(_), Value::Int(_)) = (left, right) {
                Value::whole(product)
            } else {
                Value::Long(product)
            }
        }
    })
}

/// The same kind of number, with a whole value.
fn rounded(like: &Value, value: f64) -> Value {
    match like {
        Value::Int(_) | Value::Long(_) => Value::whole(value as i64),
        _ => Value::Double(value),
    }
}

fn number_of(name: &str, value: &Value) -> Result<f64, Failure> {
    value.as_f64().ok_or_else(|| Failure::type_of(format!("{name} only supports numeric types, not {}", value.kind())))
}

/// The value of an operator, if it is one of these.
pub fn operator(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<Option<Found>, Failure> {
    let nothing = Ok(Some(Some(Value::Null)));
    match name {
        "$add" | "$multiply" => {
            let mut made: Option<Value> = None;
            for one in arguments(argument, frame)? {
                let Some(one) = one.filter(|one| *one != Value::Null) else { return nothing };
                made = Some(match (made, one) {
                    (Some(Value::Date(at)), one) | (Some(one), Value::Date(at)) if name == "$add" => {
                        Value::Date(at.saturating_add(number_of(name, &one)? as i64))
                    }
                    (None, one @ Value::Date(_)) => one,
                    (made, one) => {
                        number_of(name, &one)?;
                        let made = made.unwrap_or(Value::Int(i32::from(name != "$add")));
                        let both = if name == "$add" { plus(&made, &one) } else { times(&made, &one) };
                        both.ok_or_else(|| Failure::bad(format!("{name}: the result has too many digits")))?
                    }
                });
            }
            Ok(Some(Some(made.unwrap_or(Value::Int(i32::from(name != "$add"))))))
        }
        "$subtract" | "$divide" | "$mod" | "$pow" => {
            let [left, right] = exactly(name, argument, frame)?;
            let (Some(left), Some(right)) = (left, right) else { return nothing };
            if left == Value::Null || right == Value::Null {
                return nothing;
            }
            if name == "$subtract" {
                match (&left, &right) {
                    (Value::Date(left), Value::Date(right)) => return Ok(Some(Some(Value::Long(left - right)))),
                    (Value::Date(left), right) => {
                        return Ok(Some(Some(Value::Date(left - number_of(name, right)? as i64))));
                    }
                    _ => {}
                }
            }
            let (a, b) = (number_of(name, &left)?, number_of(name, &right)?);
            let is_whole = !matches!((&left, &right), (Value::Double(_), _) | (_, Value::Double(_)));
            if b == 0.0 && matches!(name, "$divide" | "$mod") {
                return Err(Failure::bad(format!("can't {} by zero", name.trim_start_matches('$'))));
            }
            Ok(Some(Some(match (name, left.as_i64(), right.as_i64()) {
                ("$subtract", ..) => {
                    let negative = times(&right, &Value::Int(-1));
                    negative.and_then(|right| plus(&left, &right)).unwrap_or(Value::Double(a - b))
                }
                ("$mod", Some(a), Some(b)) if is_whole => Value::whole(a.wrapping_rem(b)),
                ("$mod", ..) => Value::Double(a % b),
                ("$pow", Some(a), Some(b)) if is_whole && b >= 0 => {
                    let power = u32::try_from(b).ok().and_then(|b| a.checked_pow(b));
                    power.map_or(Value::Double((a as f64).powf(b as f64)), Value::whole)
                }
                ("$pow", ..) => Value::Double(a.powf(b)),
                _ => Value::Double(a / b),
            })))
        }
        "$abs" | "$ceil" | "$floor" | "$sqrt" | "$exp" | "$ln" | "$log10" => {
            let [one] = exactly(name, argument, frame)?;
            let Some(one) = one.filter(|one| *one != Value::Null) else { return nothing };
            let value = number_of(name, &one)?;
            Ok(Some(Some(match name {
                "$abs" => rounded(&one, value.abs()),
                "$ceil" => rounded(&one, value.ceil()),
                "$floor" => rounded(&one, value.floor()),
                "$sqrt" => Value::Double(value.sqrt()),
                "$exp" => Value::Double(value.exp()),
                "$ln" => Value::Double(value.ln()),
                _ => Value::Double(value.log10()),
            })))
        }
        "$round" | "$trunc" => {
            let all = arguments(argument, frame)?;
            let places = all.get(1).cloned().flatten().and_then(|places| places.as_i64()).unwrap_or(0);
            let Some(one) = all.into_iter().next().flatten().filter(|one| *one != Value::Null) else { return nothing };
            let scale = 10_f64.powi(places as i32);
            let value = number_of(name, &one)? * scale;
            let value = if name == "$trunc" { value.trunc() } else { value.round_ties_even() };
            Ok(Some(Some(rounded(&one, value / scale))))
        }
        "$sum" | "$avg" | "$min" | "$max" => {
            let all = arguments(argument, frame)?;
            let values: Vec<Value> = match all.as_slice() {
                [Some(Value::Array(values))] => values.clone(),
                _ => all.into_iter().flatten().collect(),
            };
            Ok(Some(Some(of_all(name, values.iter()))))
        }
        "$rand" => Ok(Some(Some(Value::Double(chance())))),
        "$bitAnd" | "$bitOr" | "$bitXor" => {
            let all = arguments(argument, frame)?;
            if all.iter().any(is_nothing) {
                return nothing;
            }
            let numbers = all.iter().flatten().filter_map(Value::as_i64);
            let made = match name {
                "$bitAnd" => numbers.fold(-1, |made, one| made & one),
                "$bitOr" => numbers.fold(0, |made, one| made | one),
                _ => numbers.fold(0, |made, one| made ^ one),
            };
            Ok(Some(Some(Value::whole(made))))
        }
        _ => Ok(None),
    }
}

/// What `$sum`, `$avg`, `$min` or `$max` makes of values.
pub fn of_all<'a>(name: &str, values: impl Iterator<Item = &'a Value>) -> Value {
    match name {
        "$min" | "$max" => {
            let known = values.filter(|value| **value != Value::Null);
            let found = if name == "$min" { known.min() } else { known.max() };
            found.cloned().unwrap_or(Value::Null)
        }
        _ => {
            let numbers: Vec<&Value> = values.filter(|value| value.as_f64().is_some()).collect();
            let sum = numbers.iter().try_fold(Value::Int(0), |sum, one| plus(&sum, one));
            let sum = sum.unwrap_or_else(|| Value::Double(numbers.iter().filter_map(|one| one.as_f64()).sum()));
            match (name, numbers.len()) {
                ("$sum", _) => sum,
                (_, 0) => Value::Null,
                (_, count) => Value::Double(sum.as_f64().unwrap_or(f64::NAN) / count as f64),
            }
        }
    }
}

/// A number from 0 to 1, by chance.
pub fn chance() -> f64 {
    use std::hash::{BuildHasher as _, RandomState};
    // Each of them has keys of its own, which come from the system.
    (RandomState::new().hash_one(0_u8) >> 11) as f64 / (1_u64 << 53) as f64
}
