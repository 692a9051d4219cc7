//! `my.cnf`, the file of the server's own clients, by MySQL's documentation, section "Using option
//! files".

use jaunty_seam::profile::{Profile, Secret, Setting};

/// The password that the environment or the client's file has for a profile.
pub fn password(profile: &Profile) -> Option<Secret> {
    if let Ok(password) = std::env::var("MYSQL_PWD")
        && !password.is_empty()
    {
        return Some(Secret::new(password));
    }
    let home = std::env::var_os("HOME").map(std::path::PathBuf::from)?;
    let text = zeroize::Zeroizing::new(std::fs::read_to_string(home.join(".my.cnf")).ok()?);
    in_file(&text, profile)
}

/// The profile that the client's file describes, if it names a user or a host.
pub fn client() -> Option<(Profile, String)> {
    let home = std::env::var_os("HOME").map(std::path::PathBuf::from)?;
    let text = zeroize::Zeroizing::new(std::fs::read_to_string(home.join(".my.cnf")).ok()?);
    described(&text).map(|profile| (profile, ".my.cnf".to_owned()))
}

fn described(text: &str) -> Option<Profile> {
    let mut profile = Profile::new("my-cnf", "mysql");
    for (key, value) in settings(text) {
        profile = match key {
            "user" | "host" | "database" => profile.with(key, value),
            "socket" => profile.with("host", value),
            "port" => {
                profile.settings.insert("port".into(), Setting::Number(value.parse().ok()?));
                profile
            }
            _ => profile,
        };
    }
    (!profile.settings.is_empty()).then_some(profile)
}

/// The settings under `[client]`.
fn settings(text: &str) -> Vec<(&str, &str)> {
    let mut inside = false;
    let mut found = Vec::new();
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with(['#', ';'])) {
        if let Some(heading) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            inside = matches!(heading, "client" | "client-server" | "client-mariadb");
        } else if let (true, Some((key, value))) = (inside, line.split_once('=')) {
            found.push((key.trim(), value.trim().trim_matches(['"', '\''])));
        }
    }
    found
}

/// The password under `[client]`, unless it is for another user or host.
fn in_file(text: &str, profile: &Profile) -> Option<Secret> {
    let (mut password, mut fits) = (None, true);
    for (key, value) in settings(text) {
        match key {
            "password" => password = Some(Secret::new(value.to_owned())),
            "user" | "host" => fits &= profile.text(key).is_none_or(|wanted| wanted == value),
            _ => {}
        }
    }
    password.filter(|_| fits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_clients_section_has_the_password() {
        let text = "[mysqld]\npassword=no\n[client]\nuser = clerk\n# password=old\npassword = \"tide 9\"\n";
        let found = |profile: Profile| in_file(text, &profile).map(|secret| secret.reveal().to_owned());
        assert_eq!(found(Profile::new("a", "mysql").with("user", "clerk")).as_deref(), Some("tide 9"));
        assert_eq!(found(Profile::new("a", "mysql").with("user", "purser")), None);
        let profile = described("[client]\nuser=clerk\nport=3307\nsocket=/run/quay.sock\n").unwrap();
        assert_eq!(
            (profile.text("user"), profile.number("port"), profile.text("host")),
            (Some("clerk"), Some(3307), Some("/run/quay.sock"))
        );
        assert_eq!(described("[mysqld]\nuser=mysql\n"), None);
    }
}
