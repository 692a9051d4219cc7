//! Files of the server's own clients: `.pgpass` and `pg_service.conf`, by PostgreSQL's
//! documentation, sections 34.16 and 34.17.

use std::path::{Path, PathBuf};

use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Profile, Secret, Setting};

/// The password that the environment or the password file has for a profile.
pub fn password(profile: &Profile) -> Option<Secret> {
    if let Ok(password) = std::env::var("PGPASSWORD")
        && !password.is_empty()
    {
        return Some(Secret::new(password));
    }
    let file = password_file()?;
    if others_read(&file)? {
        return None;
    }
    let text = zeroize::Zeroizing::new(std::fs::read_to_string(file).ok()?);
    let user = profile.text("user").map_or_else(user_of_system, str::to_owned);
    let host = profile.text("host").unwrap_or("127.0.0.1");
    // A socket goes by the name localhost.
    let hosts = if host.starts_with('/') { ["localhost", host] } else { [host, host] };
    let port = profile.number("port").unwrap_or(5432).to_string();
    let database = profile.text("database").unwrap_or(&user);
    hosts.iter().find_map(|host| in_file(&text, [host, &port, database, &user]))
}

fn password_file() -> Option<PathBuf> {
    std::env::var_os("PGPASSFILE").map(PathBuf::from).or_else(|| Some(home()?.join(".pgpass")))
}

/// Whether others than its owner can read a file; none where it is not there.
fn others_read(file: &Path) -> Option<bool> {
    use std::os::unix::fs::PermissionsExt;
    Some(std::fs::metadata(file).ok()?.permissions().mode() & 0o077 != 0)
}

/// Why the password file is passed over, where it is: as the server's own clients do, one that others can read is.
pub fn passed_over() -> Option<String> {
    let file = password_file().filter(|file| others_read(file) == Some(true))?;
    Some(format!("{} is ignored, since others can read it. Run: chmod 600 {0}", file.display()))
}

/// The first line that fits.
fn in_file(text: &str, wanted: [&str; 4]) -> Option<Secret> {
    text.lines().filter(|line| !line.starts_with('#')).find_map(|line| {
        let fields = fields(line);
        let fits =
            fields.len() == 5 && fields.iter().zip(wanted).all(|(field, wanted)| field == "*" || field == wanted);
        fits.then(|| Secret::new(fields[4].clone()))
    })
}

/// The fields of a line: a backslash takes the next character as it is.
fn fields(line: &str) -> Vec<String> {
    let mut fields = vec![String::new()];
    let mut characters = line.chars();
    while let Some(c) = characters.next() {
        if c == ':' && fields.len() < 5 {
            fields.push(String::new());
            continue;
        }
        let taken = if c == '\\' { characters.next() } else { Some(c) };
        if let Some(field) = fields.last_mut() {
            field.extend(taken);
        }
    }
    fields
}

fn service_file() -> Option<PathBuf> {
    std::env::var_os("PGSERVICEFILE").map(PathBuf::from).or_else(|| Some(home()?.join(".pg_service.conf")))
}

/// A profile for each service.
pub fn services() -> Vec<(Profile, String)> {
    let text = service_file().and_then(|file| std::fs::read_to_string(file).ok()).unwrap_or_default();
    let headings = text.lines().filter_map(|line| line.trim().strip_prefix('[')?.strip_suffix(']'));
    headings.map(|name| (Profile::new(name, "postgres").with("service", name), "pg_service.conf".to_owned())).collect()
}

/// The profile with what its service says, where the profile itself says nothing.
pub fn with_service(profile: &Profile) -> Result<Profile, EngineError> {
    let Some(service) = profile.text("service") else { return Ok(profile.clone()) };
    let file = service_file();
    let text = file.as_ref().and_then(|file| std::fs::read_to_string(file).ok());
    let mut with = profile.clone();
    let Some(settings) = text.as_deref().and_then(|text| section(text, service)) else {
        let file = file.map_or_else(|| "pg_service.conf".to_owned(), |file| file.display().to_string());
        return Err(EngineError::connecting(Step::Profile, format!("{file} has no section [{service}]"))
            .remedy("Add it, or write host, port and the others into the profile."));
    };
    for (key, value) in settings {
        let (key, setting) = match key.as_str() {
            "dbname" => ("database", Setting::Text(value)),
            "port" => match value.parse() {
                Ok(port) => ("port", Setting::Number(port)),
                Err(_) => continue,
            },
            "host" | "user" | "password" => (key.as_str(), Setting::Text(value)),
            "sslmode" => ("tls", Setting::Text(if value == "disable" { "off".into() } else { value })),
            "sslrootcert" => ("tls_ca", Setting::Text(value)),
            _ => continue,
        };
        with.settings.entry(key.to_owned()).or_insert(setting);
    }
    Ok(with)
}

/// The settings of a section of a service file.
pub fn section(text: &str, name: &str) -> Option<Vec<(String, String)>> {
    let mut inside = false;
    let mut found = None;
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#') && !line.is_empty()) {
        if let Some(heading) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            inside = heading == name;
            if inside {
                found.get_or_insert_with(Vec::new);
            }
        } else if let (true, Some((key, value)), Some(found)) = (inside, line.split_once('='), &mut found) {
            found.push((key.trim().to_owned(), value.trim().to_owned()));
        }
    }
    found
}

/// The name of the person at this machine, who the server takes the user to be.
pub fn user_of_system() -> String {
    std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "postgres".to_owned())
}

fn home() -> Option<PathBuf> {
    std::env::var_os("HOME").map(PathBuf::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_line_that_fits_has_the_password() {
        let text = "# ours\nquay.example:5432:*:clerk:tide\\:9\\\\\n*:*:bookings:purser:low:water\nshort:line\n";
        let found = |wanted| in_file(text, wanted).map(|secret| secret.reveal().to_owned());
        assert_eq!(found(["quay.example", "5432", "fares", "clerk"]).as_deref(), Some("tide:9\\"));
        assert_eq!(found(["pier.example", "1", "bookings", "purser"]).as_deref(), Some("low:water"));
        assert_eq!(found(["quay.example", "5433", "fares", "clerk"]), None);
    }

    #[test]
    fn a_service_is_a_section() {
        let text = "[east]\nhost=east.example\n# no\n[west]\nhost = west.example\ndbname=fares\n";
        let west = [("host".to_owned(), "west.example".to_owned()), ("dbname".to_owned(), "fares".to_owned())];
        assert_eq!(section(text, "west").as_deref(), Some(&west[..]));
        assert_eq!(section(text, "north"), None);
    }
}
