//! From a name in program code to the table that it stands for: `ArticleTag` → `article_tags`.

use crate::catalog::naming::{plural, singular, snake_case};
use jaunty_seam::catalog::{Catalog, Object};

/// The object that a word of program code stands for, by its own name or as a class, a model or a variable is named.
/// The nearest form comes first; none where the catalog has none of them.
pub fn object_of<'a>(word: &str, catalog: &'a Catalog) -> Option<&'a Object> {
    let word = word.trim_matches(|c: char| !c.is_alphanumeric());
    if word.is_empty() {
        return None;
    }
    forms(word).into_iter().find_map(|form| {
        let mut named: Vec<&Object> = catalog.named(&form).filter(|object| object.kind.has_rows()).collect();
        named.sort_by_key(|object| catalog.distance(&object.schema));
        named.into_iter().next()
    })
}

/// How a table of this name could be called, in lower case and the likeliest first.
fn forms(word: &str) -> Vec<String> {
    let snake = snake_case(word);
    let mut bases = vec![word.to_lowercase(), snake.clone(), snake.replace('_', "")];
    // What is appended to the name of a class.
    for end in ["_model", "_record", "_entity", "_repository", "_dao", "_id", "_ids", "_table"] {
        bases.extend(snake.strip_suffix(end).map(str::to_owned));
    }
    let mut all: Vec<String> = Vec::new();
    for base in bases {
        for form in [Some(base.clone()), Some(plural(&base)), singular(&base)].into_iter().flatten() {
            if !all.contains(&form) {
                all.push(form);
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_seam::catalog::ObjectKind;

    #[test]
    fn names_of_code_lead_to_tables() {
        let mut catalog = Catalog::along(["main".to_owned()]);
        for name in ["article_tags", "ports", "company", "boxes", "http_route", "Sailing", "crew"] {
            catalog.object("main", name, ObjectKind::Table);
        }
        catalog.prepare();
        for (word, table) in [
            ("ArticleTag", "article_tags"),
            ("articleTags", "article_tags"),
            ("article_tag_id", "article_tags"),
            ("Port", "ports"),
            ("PORTS", "ports"),
            ("companies", "company"),
            ("Box", "boxes"),
            ("HTTPRoute", "http_route"),
            ("sailings", "Sailing"),
            ("CrewRepository", "crew"),
            (":port", "ports"),
        ] {
            assert_eq!(object_of(word, &catalog).map(|object| object.name.as_str()), Some(table), "{word}");
        }
        for word in ["", "s", "tide", "::"] {
            assert!(object_of(word, &catalog).is_none(), "{word}");
        }
    }
}
