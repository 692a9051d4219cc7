//! From the server's errors to sentences. The codes are those of its documentation, "Error Codes".

use jaunty_documents::raw::{Element, RawDocument};
use jaunty_seam::error::{EngineError, ErrorKind, Step};

use super::wire::WireError;
use crate::net::PASSWORD_REQUIRED;
use crate::net::limit::too_long;
use crate::net::reach::Route;

/// What a reply says went wrong: its code, the code's name, and the message.
pub struct Refusal {
    pub code: i64,
    pub name: String,
    pub message: String,
}

fn number(element: Option<Element<'_>>) -> Option<i64> {
    match element? {
        Element::Int32(value) => Some(value.into()),
        Element::Int64(value) => Some(value),
        Element::Double(value) => Some(value as i64),
        Element::Bool(value) => Some(value.into()),
        _ => None,
    }
}

fn text(element: Option<Element<'_>>) -> String {
    match element {
        Some(Element::Text(text)) => text.to_owned(),
        _ => String::new(),
    }
}

/// The refusal in a reply, if it is one. Writes tell of theirs in a list.
pub fn refusal(reply: &RawDocument<'_>) -> Option<Refusal> {
    if number(reply.get("ok")) == Some(0) {
        let code = number(reply.get("code")).unwrap_or_default();
        return Some(Refusal { code, name: text(reply.get("codeName")), message: text(reply.get("errmsg")) });
    }
    let first = match reply.get("writeErrors") {
        Some(Element::Array(list)) => list.iter().flatten().next().map(|(_, element)| element),
        _ => match reply.get("writeConcernError") {
            Some(Element::Document(error)) => Some(Element::Document(error)),
            _ => None,
        },
    };
    match first {
        Some(Element::Document(error)) => Some(Refusal {
            code: number(error.get("code")).unwrap_or_default(),
            name: text(error.get("codeName")),
            message: text(error.get("errmsg")),
        }),
        _ => None,
    }
}

/// How many documents a command wrote, and what of it was refused, by its place.
pub fn of_writes(reply: &RawDocument<'_>) -> (u64, Vec<(usize, EngineError)>) {
    let count = number(reply.get("n")).and_then(|count| u64::try_from(count).ok()).unwrap_or(0);
    let Some(Element::Array(list)) = reply.get("writeErrors") else { return (count, Vec::new()) };
    let one = |element: Element<'_>| match element {
        Element::Document(error) => {
            let refusal = Refusal {
                code: number(error.get("code")).unwrap_or_default(),
                name: text(error.get("codeName")),
                message: text(error.get("errmsg")),
            };
            let at = number(error.get("index")).and_then(|at| usize::try_from(at).ok()).unwrap_or(0);
            Some((at, refused(&refusal)))
        }
        _ => None,
    };
    (count, list.iter().flatten().filter_map(|(_, element)| one(element)).collect())
}

/// The error of a command.
pub fn refused(refusal: &Refusal) -> EngineError {
    let kind = match refusal.code {
        11601 | 50 | 262 => ErrorKind::Stopped,
        91 | 11600 | 189 | 10107 | 13435 | 11602 => ErrorKind::Lost,
        46 | 24 | 112 => ErrorKind::Locked,
        _ => ErrorKind::Refused,
    };
    let lacks = |what: &str| matches!(refusal.code, 27 | 291) && refusal.message.contains(what);
    let remedy = match refusal.code {
        _ if lacks("$geoNear") || lacks("$near") => {
            "A search by distance needs a geospatial index: collection index { path: \"2dsphere\" }"
        }
        _ if lacks("text index") => "A text search needs a text index: collection index { path: \"text\" }",
        13 => "Ask for the privilege, or connect as a user who has it.",
        26 => "The collection does not exist: check its name and the current database.",
        27 => "The index does not exist; the verb indexes lists those of a collection.",
        43 => "The cursor has expired: the server closes idle ones. Run it again.",
        59 => "Check how the command is written; { listCommands: 1 } lists them.",
        112 => "Another session changed it meanwhile. Run it again.",
        121 => "The validator of the collection refuses the document.",
        11000 => "A unique index has this value already.",
        10107 | 13435 | 189 => "Another server of the replica set is the primary now. The next run connects again.",
        _ => "",
    };
    let code = match refusal.name.is_empty() {
        true => refusal.code.to_string(),
        false => format!("{} {}", refusal.code, refusal.name),
    };
    // What an error came from is said last; what comes before it is the way it took inside the server.
    let message = refusal.message.rsplit(" :: caused by :: ").next().unwrap_or_default().trim_end_matches('.');
    let message = if message.is_empty() { "the server gave no details" } else { message };
    let error = EngineError::new(kind, message).code(code);
    if remedy.is_empty() { error } else { error.remedy(remedy) }
}

/// Whether an error is about our asking, and not about what was asked.
pub fn is_of_asking(error: &EngineError) -> bool {
    const OF_ASKING: &[&str] = &["13", "26", "50", "59", "115", "166", "303"];
    let code = error.code.as_deref().unwrap_or_default();
    OF_ASKING.contains(&code.split(' ').next().unwrap_or_default())
}

/// Where in a statement the name stands that an error is about: a stage, an operator, a search that lacks its index.
pub fn place(message: &str, text: &str) -> Option<usize> {
    let about = |before: &str| {
        let rest = message.split_once(before)?.1.trim_start_matches([' ', '\'', '"', ':']);
        let end =
            rest.find(|letter: char| !(letter.is_alphanumeric() || matches!(letter, '$' | '_'))).unwrap_or(rest.len());
        rest.get(..end).filter(|name| name.starts_with('$'))
    };
    let named = [
        "stage name",
        "unknown operator",
        "unknown top level operator",
        "unknown group operator",
        "Unrecognized expression",
        "Unknown modifier",
        "Unknown expression",
    ];
    if let Some(name) = named.into_iter().find_map(about) {
        // A stage may stand without its sign.
        return text.find(name).or_else(|| text.find(&format!("| {}", name.trim_start_matches('$'))).map(|at| at + 2));
    }
    let searches: &[&str] = match () {
        () if message.contains("geoNear") => &["$near", "$geoNear", "geoNear"],
        () if message.contains("text index") => &["$text"],
        () => &[],
    };
    searches.iter().find_map(|search| text.find(search))
}

/// The error of a connection that broke.
pub fn broken(error: &WireError, most: u64) -> EngineError {
    match error {
        WireError::TooLong(length) => {
            let what = format!(
                "the server sent a message of {} MiB, and at most {} MiB are taken",
                length.div_ceil(1 << 20),
                most >> 20
            );
            too_long(what, most)
        }
        WireError::Closed => EngineError::new(ErrorKind::Lost, "the server closed the connection"),
        other => EngineError::new(ErrorKind::Lost, format!("the connection was lost: {other}")),
    }
}

/// The error of a connection that broke before anybody was let in.
pub fn while_connecting(error: &WireError, route: &Route) -> EngineError {
    let (what, remedy) = match error {
        WireError::Io(error) if error.kind() != std::io::ErrorKind::UnexpectedEof => {
            (format!("the connection to {} broke during the login: {error}", route.address), CLOSED)
        }
        WireError::Io(_) | WireError::Closed => {
            (format!("{} closed the connection during the login", route.address), CLOSED)
        }
        other => (format!("{}: {other}", route.address), "Is it a document database? Check host and port."),
    };
    EngineError::connecting(Step::Login, what).remedy(remedy)
}

const CLOSED: &str = "Does the server require TLS? Set tls = \"require\" or \"verify-full\".";

/// The error of a login.
pub fn login(refusal: &Refusal, user: &str, source: &str, given: bool) -> EngineError {
    let (step, what, remedy) = match refusal.code {
        18 if given => (
            Step::Secret,
            format!("the login of {user} was refused"),
            format!("Check user and password, and whether {source} is the database that knows the user (auth_source)."),
        ),
        18 => (Step::Secret, format!("the login of {user} was refused"), PASSWORD_REQUIRED.to_owned()),
        334 => (
            Step::Login,
            format!("the server offers no authentication mechanism that is supported here: {}", refusal.message),
            "See auth_mechanism.".to_owned(),
        ),
        _ => (Step::Login, refusal.message.trim_end_matches('.').to_owned(), "The server gave no details.".to_owned()),
    };
    EngineError::connecting(step, what).code(refusal.code.to_string()).remedy(remedy)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_error_is_about_is_found_in_the_statement() {
        for (message, text, found) in [
            ("Unrecognized pipeline stage name: '$nonsense'", "ports\n| nonsense {}", "nonsense"),
            ("unknown operator: $gtt", "ports { n: { $gtt: 1 } }", "$gtt"),
            ("Unrecognized expression '$ad'", "ports | set { n: { $ad: [1, 2] } }", "$ad"),
            ("unable to find index for $geoNear query", "ports { place: { $near: {} } }", "$near"),
            ("text index required for $text query", "ports { $text: {} }", "$text"),
        ] {
            assert_eq!(place(message, text), text.find(found), "{message}");
        }
        assert_eq!(place("Document failed validation", "ports insert {}"), None);
    }

    #[test]
    fn an_index_that_is_lacking_is_named() {
        let remedy = |code, message: &str| {
            let refusal = Refusal { code, name: String::new(), message: message.to_owned() };
            refused(&refusal).remedy.unwrap_or_default()
        };
        let near =
            "error processing query: planner returned error :: caused by :: unable to find index for $geoNear query";
        assert!(remedy(291, near).ends_with("index { path: \"2dsphere\" }"));
        assert!(remedy(27, "text index required for $text query").ends_with("index { path: \"text\" }"));
        assert!(remedy(27, "index not found with name [left_1]").contains("the verb indexes"));
    }
}
