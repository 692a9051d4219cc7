//! Values of the server's own classes, as it writes them itself ([MS-SSCLRT]; for hierarchies the layout that the
//! server's documentation gives as "OrdPath").

mod hierarchy;
mod spatial;

/// The text of a value of a class that is known.
pub fn text(class: &str, raw: &[u8]) -> Option<String> {
    match class {
        "hierarchyid" => hierarchy::text(raw),
        "geography" => spatial::text(raw, true),
        "geometry" => spatial::text(raw, false),
        _ => None,
    }
}
