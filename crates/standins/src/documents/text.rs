//! Searches for words, by an index of text.

use super::failure::Failure;
use super::scope::Scope;
use super::value::{Value, at_path, field};

fn words(text: &str) -> Vec<String> {
    text.split(|letter: char| !letter.is_alphanumeric())
        .filter(|word| !word.is_empty())
        .map(str::to_lowercase)
        .collect()
}

fn texts(value: &Value, all: &mut Vec<String>) {
    match value {
        Value::Text(text) => all.push(text.to_lowercase()),
        Value::Array(values) => values.iter().for_each(|value| texts(value, all)),
        Value::Document(inside) => inside.iter().for_each(|(_, value)| texts(value, all)),
        _ => {}
    }
}

/// How well a document fits `{ $search: "ebb \"low water\" -fog" }`: how often its words are there.
pub fn score(wanted: &Value, document: &[(String, Value)], scope: &Scope<'_>) -> Result<f64, Failure> {
    if scope.text.is_empty() {
        return Err(Failure::new(27, "IndexNotFound", "text index required for $text query"));
    }
    let search = wanted.as_document().and_then(|wanted| field(wanted, "$search")).and_then(Value::as_text);
    let search = search.ok_or_else(|| Failure::type_of("$search needs a string"))?;
    let mut all = Vec::new();
    for path in &scope.text {
        match path.as_str() {
            "$**" => document.iter().for_each(|(_, value)| texts(value, &mut all)),
            path => at_path(document, path).iter().for_each(|value| texts(value, &mut all)),
        }
    }
    let own: Vec<String> = all.iter().flat_map(|text| words(text)).collect();
    let mut score = 0.0;
    for (number, part) in search.split('"').enumerate() {
        if number % 2 == 1 {
            if !all.iter().any(|text| text.contains(&part.to_lowercase())) {
                return Ok(0.0);
            }
            score += words(part).len() as f64;
            continue;
        }
        for word in part.split_whitespace() {
            match word.strip_prefix('-') {
                Some(word) if words(word).iter().any(|word| own.contains(word)) => return Ok(0.0),
                Some(_) => {}
                None => {
                    let wanted = words(word);
                    score += own.iter().filter(|own| wanted.contains(own)).count() as f64;
                }
            }
        }
    }
    Ok(score)
}
