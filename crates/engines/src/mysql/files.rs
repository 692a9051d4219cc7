//! `my.cnf`, the file of the server's own clients, by MySQL's documentation, section "Using option
//! files".

use jaunty_core::connection::{Profile, Secret};

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

/// The password under `[client]`, unless it is for another user or host.
fn in_file(text: &str, profile: &Profile) -> Option<Secret> {
    let mut inside = false;
    let (mut password, mut fits) = (None, true);
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with(['#', ';'])) {
        if let Some(heading) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            inside = matches!(heading, "client" | "client-server" | "client-mariadb");
        } else if let (true, Some((key, value))) = (inside, line.split_once('=')) {
            let value = value.trim().trim_matches(['"', '\'']);
            match key.trim() {
                "password" => password = Some(Secret::new(value.to_owned())),
                key @ ("user" | "host") => fits &= profile.text(key).is_none_or(|wanted| wanted == value),
                _ => {}
            }
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
    }
}
