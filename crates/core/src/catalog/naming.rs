//! How tables and columns are usually named: words of code as they stand in a database, one and many.

/// `ArticleTag` and `articleTag` as `article_tag`.
pub fn snake_case(word: &str) -> String {
    let mut out = String::with_capacity(word.len() + 4);
    let letters: Vec<char> = word.chars().collect();
    for (at, c) in letters.iter().enumerate() {
        let before = at.checked_sub(1).and_then(|at| letters.get(at));
        let next = letters.get(at + 1);
        // Of `HTTPRoute` the last capital begins a word.
        let begins = c.is_uppercase()
            && before.is_some_and(|before| {
                before.is_lowercase()
                    || before.is_numeric()
                    || (before.is_uppercase() && next.is_some_and(|n| n.is_lowercase()))
            });
        if begins {
            out.push('_');
        }
        out.push(if *c == '-' { '_' } else { *c });
    }
    out.to_lowercase()
}

/// `company` as `companies`; the word is in lower case.
pub fn plural(word: &str) -> String {
    let vowel_before = |end: &str| word.strip_suffix(end).is_some_and(|rest| rest.ends_with(['a', 'e', 'i', 'o', 'u']));
    if word.ends_with('y') && !vowel_before("y") {
        return format!("{}ies", word.trim_end_matches('y'));
    }
    match ["s", "x", "z", "ch", "sh"].iter().any(|end| word.ends_with(end)) {
        true => format!("{word}es"),
        false => format!("{word}s"),
    }
}

/// `companies` as `company`; none where the word does not end as one of many does. The word is in lower case.
pub fn singular(word: &str) -> Option<String> {
    if let Some(rest) = word.strip_suffix("ies") {
        return Some(format!("{rest}y"));
    }
    if let Some(rest) =
        word.strip_suffix("es").filter(|rest| ["s", "x", "z", "ch", "sh"].iter().any(|end| rest.ends_with(end)))
    {
        return Some(rest.to_owned());
    }
    word.strip_suffix('s').filter(|rest| rest.len() > 1).map(str::to_owned)
}
