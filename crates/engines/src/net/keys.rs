//! The keys that profiles of all servers have.

use jaunty_core::engine::{Key, Takes};

/// Words under `tls`.
pub const TLS: &[&str] = &["off", "prefer", "require", "verify-full"];

/// Whether the server is asked about statements that are not run yet.
pub const CHECK: Key = Key::rare(
    "check",
    Takes::Flag,
    "true where the guard is open",
    "ask the server about statements while they are written",
);

/// Whether runs and their rows are kept.
pub const KEEP: Key = Key::rare(
    "keep",
    Takes::Flag,
    "true",
    "keep runs in the logbook, and their rows; false keeps nothing beyond the program's end",
);

/// How large what the server sends at once may be.
pub const LARGEST: Key = Key::rare(
    "largest_mib",
    Takes::Number(1, 1024),
    "1024",
    "the largest row that is taken, in MiB: it is held in memory whole",
);

/// How to get at the secret, how to encrypt, and how to get there.
pub const SHARED: [Key; 21] = [
    Key::common(
        "secret",
        Takes::Text,
        "asked for, if the server wants one",
        "where the password comes from: ask, keyring, or env:NAME",
    ),
    Key::rare("secret_command", Takes::Text, "", "a command that prints the password"),
    Key::rare("password", Takes::Text, "", "the password in plain text; the file must be readable by its owner only"),
    Key::common(
        "tls",
        Takes::Word(TLS),
        "prefer on this machine, verify-full beyond",
        "off, prefer, require or verify-full; beyond this machine verify-full unless said otherwise",
    ),
    Key::rare("tls_ca", Takes::Path, "", "certificates to trust instead of the system's, a PEM file"),
    Key::rare("tls_cert", Takes::Path, "", "our own certificate, a PEM file"),
    Key::rare("tls_key", Takes::Path, "", "the key of our own certificate, a PEM file"),
    Key::rare("ssh", Takes::Text, "", "an SSH server to go through, user@host:port"),
    Key::rare("ssh_key", Takes::Path, "", "our key for the SSH server; else the agent's keys"),
    Key::rare("ssh_secret_command", Takes::Text, "", "a command that prints the SSH password or the key's passphrase"),
    Key::rare("ssh_jump", Takes::Text, "", "an SSH server to go through before that, user@host:port"),
    Key::rare("ssh_known_hosts", Takes::Path, "~/.ssh/known_hosts", "the SSH servers that are known"),
    Key::rare("connect_seconds", Takes::Number(1, 600), "10", "how long connecting may take, first questions included"),
    Key::rare(
        "stop_seconds",
        Takes::Number(1, 600),
        "1, and 3 through ssh",
        "how long the server may take to end what is stopped",
    ),
    Key::rare(
        "check",
        Takes::Flag,
        "true where the guard is open",
        "ask the server about statements while they are written",
    ),
    KEEP,
    Key::rare("idle_minutes", Takes::Number(0, 100_000), "60", "let go when unused for so long; 0 never does"),
    Key::rare("url", Takes::Text, "", "a URL instead of, or beside, the other keys"),
    Key::common("host", Takes::Text, "127.0.0.1", "a name, an address, or the folder or file of a Unix socket"),
    Key::common("user", Takes::Text, "", "who to log in as"),
    Key::common("database", Takes::Text, "", "the database to begin in"),
];

/// The keys of an engine: where it is, who, and then what all have. `own` come between.
pub const fn keys<const OWN: usize, const ALL: usize>(port: Key, own: [Key; OWN]) -> [Key; ALL] {
    assert!(ALL == SHARED.len() + 1 + OWN);
    let mut all = [port; ALL];
    let shared = SHARED.len();
    // Host, port, database and user come first: forms ask in this order.
    all[0] = SHARED[shared - 3];
    all[1] = port;
    all[2] = SHARED[shared - 1];
    all[3] = SHARED[shared - 2];
    let mut at = 4;
    let mut i = 0;
    while i < OWN {
        all[at] = own[i];
        at += 1;
        i += 1;
    }
    i = 0;
    while i < shared - 3 {
        all[at] = SHARED[i];
        at += 1;
        i += 1;
    }
    all
}
