//! Services of a compose file, by the Compose Specification: image, published ports, environment.

use yaml_rust2::{Yaml, YamlLoader};

use super::number;
use jaunty_seam::engine::Engine;
use jaunty_seam::profile::Profile;

/// The services whose image names an engine, with a port that is published on this machine.
pub fn services(text: &str, engines: &[&dyn Engine]) -> Vec<Profile> {
    let Ok(documents) = YamlLoader::load_from_str(text) else { return Vec::new() };
    let services = documents.first().map(|document| &document["services"]).and_then(Yaml::as_hash);
    let services = services.into_iter().flatten();
    services.filter_map(|(name, service)| profile(name.as_str()?, service, engines)).collect()
}

fn profile(name: &str, service: &Yaml, engines: &[&dyn Engine]) -> Option<Profile> {
    let image = service["image"].as_str()?;
    // `registry.example/library/postgres:15` is an image of postgres.
    let kind = image.rsplit('/').next()?.split([':', '@']).next()?;
    let engine = engines.iter().find(|engine| {
        let names = engine.schemes().iter().copied().chain([engine.name()]);
        names.into_iter().any(|known| kind == known || kind.starts_with(&format!("{known}-")))
    })?;
    let usual = engine.keys().iter().find(|key| key.name == "port")?.usual;
    let port = service["ports"].as_vec()?.iter().find_map(|port| published(port, usual))?;
    let mut profile = Profile::new(name, engine.name()).with("host", "127.0.0.1");
    profile.settings.insert("port".into(), number(&port)?);
    let container = engine.container();
    for (name, key) in container.variables {
        let wanted = profile.text(key).is_none() && engine.keys().iter().any(|known| known.name == *key);
        if let Some(value) = variable(service, name).filter(|_| wanted) {
            profile = profile.with(key, value);
        }
    }
    for (key, value) in container.usual {
        if profile.text(key).is_none() {
            profile = profile.with(key, *value);
        }
    }
    Some(profile)
}

/// The port on this machine behind which the service's own port lies.
fn published(port: &Yaml, wanted: &str) -> Option<String> {
    if port["target"].as_i64().is_some_and(|target| target.to_string() == wanted) {
        let published = &port["published"];
        return published.as_i64().map(|p| p.to_string()).or_else(|| published.as_str().map(str::to_owned));
    }
    // `127.0.0.1:15432:5432/tcp`
    let text = port.as_str()?;
    let mut parts = text.split('/').next()?.rsplit(':');
    let target = parts.next()?;
    let published = parts.next()?;
    (target == wanted).then(|| published.to_owned())
}

/// A variable of the service: its environment is a map, or a list of `NAME=value`. A value that
/// itself names a variable, `${NAME:-usual}`, is taken by what is usual.
fn variable(service: &Yaml, name: &str) -> Option<String> {
    let environment = &service["environment"];
    let text = match environment {
        Yaml::Hash(_) => match &environment[name] {
            Yaml::String(text) => Some(text.clone()),
            Yaml::Integer(number) => Some(number.to_string()),
            _ => None,
        },
        Yaml::Array(list) => list.iter().filter_map(Yaml::as_str).find_map(|pair| {
            let (found, value) = pair.split_once('=')?;
            (found == name).then(|| value.to_owned())
        }),
        _ => None,
    }?;
    match text.strip_prefix("${").and_then(|rest| rest.strip_suffix('}')) {
        Some(inside) => {
            let (name, usual) = inside.split_once(":-").unwrap_or((inside, ""));
            std::env::var(name).ok().or_else(|| Some(usual.to_owned()).filter(|usual| !usual.is_empty()))
        }
        None => Some(text),
    }
}
