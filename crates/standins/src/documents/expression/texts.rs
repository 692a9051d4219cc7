//! Operators of texts.

use super::{Found, arguments, exactly, is_nothing, part};
use crate::documents::failure::Failure;
use crate::documents::matching::pattern_of;
use crate::documents::scope::Frame;
use crate::documents::value::{Value, document};

fn text_of(found: &Found) -> String {
    match found {
        Some(Value::Text(text)) => text.clone(),
        Some(other) => match super::converted(Some(other.clone()), "string") {
            Ok(Some(Value::Text(text))) => text,
            _ => String::new(),
        },
        None => String::new(),
    }
}

/// The value of an operator, if it is one of these.
pub fn operator(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<Option<Found>, Failure> {
    let made = match name {
        "$concat" => {
            let all = arguments(argument, frame)?;
            if all.iter().any(is_nothing) {
                return Ok(Some(Some(Value::Null)));
            }
            if let Some(other) = all.iter().flatten().find(|one| one.as_text().is_none()) {
                let what = format!("$concat only supports strings, not {}", other.kind());
                return Err(Failure::new(16702, "Location16702", what));
            }
            Value::Text(all.iter().map(text_of).collect())
        }
        "$toUpper" | "$toLower" => {
            let [one] = exactly(name, argument, frame)?;
            let text = text_of(&one);
            Value::Text(if name == "$toUpper" { text.to_uppercase() } else { text.to_lowercase() })
        }
        "$strLenCP" | "$strLenBytes" => {
            let [one] = exactly(name, argument, frame)?;
            let text = text_of(&one);
            Value::whole(if name == "$strLenCP" { text.chars().count() } else { text.len() } as i64)
        }
        "$substrCP" | "$substrBytes" | "$substr" => {
            let [one, from, count] = exactly(name, argument, frame)?;
            let whole = |found: Found| found.and_then(|found| found.as_i64()).unwrap_or(0);
            let (from, count) = (whole(from).max(0) as usize, usize::try_from(whole(count)).unwrap_or(usize::MAX));
            Value::Text(text_of(&one).chars().skip(from).take(count).collect())
        }
        "$split" => {
            let [one, by] = exactly(name, argument, frame)?;
            if is_nothing(&one) {
                return Ok(Some(Some(Value::Null)));
            }
            Value::Array(text_of(&one).split(&text_of(&by)).map(Value::text).collect())
        }
        "$trim" | "$ltrim" | "$rtrim" => {
            let input = part(name, argument, "input", frame)?;
            if is_nothing(&input) {
                return Ok(Some(Some(Value::Null)));
            }
            let chars = part(name, argument, "chars", frame)?.map(|chars| text_of(&Some(chars)));
            let cut = |letter: char| chars.as_ref().map_or(letter.is_whitespace(), |chars| chars.contains(letter));
            let text = text_of(&input);
            Value::text(match name {
                "$trim" => text.trim_matches(cut),
                "$ltrim" => text.trim_start_matches(cut),
                _ => text.trim_end_matches(cut),
            })
        }
        "$indexOfCP" => {
            let all = arguments(argument, frame)?;
            let (Some(text), Some(wanted)) = (all.first(), all.get(1)) else { return Ok(Some(Some(Value::Null))) };
            let text = text_of(text);
            let found = text.find(&text_of(wanted)).and_then(|at| text.get(..at));
            Value::whole(found.map_or(-1, |before| before.chars().count() as i64))
        }
        "$replaceOne" | "$replaceAll" => {
            let [input, find, replacement] =
                ["input", "find", "replacement"].map(|wanted| part(name, argument, wanted, frame));
            let (input, find, replacement) = (input?, find?, replacement?);
            if is_nothing(&input) {
                return Ok(Some(Some(Value::Null)));
            }
            let (text, find, by) = (text_of(&input), text_of(&find), text_of(&replacement));
            Value::Text(if name == "$replaceOne" { text.replacen(&find, &by, 1) } else { text.replace(&find, &by) })
        }
        "$strcasecmp" => {
            let [left, right] = exactly(name, argument, frame)?;
            Value::Int(text_of(&left).to_lowercase().cmp(&text_of(&right).to_lowercase()) as i32)
        }
        "$regexMatch" | "$regexFind" => {
            let input = part(name, argument, "input", frame)?;
            let options = part(name, argument, "options", frame)?;
            let pattern = match part(name, argument, "regex", frame)? {
                Some(Value::Regex(pattern, own)) => pattern_of(&pattern, &format!("{own}{}", text_of(&options)))?,
                other => pattern_of(&text_of(&other), &text_of(&options))?,
            };
            let text = text_of(&input);
            match (name, pattern.find(&text)) {
                ("$regexMatch", found) => Value::Bool(found.is_some() && !is_nothing(&input)),
                (_, None) => Value::Null,
                (_, Some(found)) => Value::Document(document([
                    ("match", Value::text(found.as_str())),
                    ("idx", Value::whole(text.get(..found.start()).map_or(0, |before| before.chars().count()) as i64)),
                    ("captures", Value::Array(Vec::new())),
                ])),
            }
        }
        _ => return Ok(None),
    };
    Ok(Some(Some(made)))
}
