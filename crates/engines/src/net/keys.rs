//! The keys that profiles of all servers have.

use jaunty_seam::engine::{Key, Takes};

use super::limit;
use super::servers::TARGETS;

/// Words under `tls`.
pub const TLS: &[&str] = &["off", "prefer", "require", "verify-full"];

/// Whether the server is asked about statements that are not run yet.
pub const CHECK: Key =
    Key::rare("check", Takes::Flag, "true if the guard is open", "have the server check statements while you type");

/// Whether runs and their rows are kept.
pub const KEEP: Key = Key::rare(
    "keep",
    Takes::Flag,
    "true",
    "keep runs and their rows in the logbook; false keeps nothing after the program ends",
);

/// Other servers of the same cluster.
pub const OTHERS: Key = Key::rare(
    "others",
    Takes::Text,
    "",
    "other servers, host:port, separated by commas: the first that can be reached is taken",
);

/// Which of several servers is taken.
pub const TARGET: Key =
    Key::rare("target", Takes::Word(TARGETS), "any", "which of several servers is taken, by whether it takes changes");

/// How large what the server sends at once may be.
const LARGEST: Key = Key::rare(
    "largest_mib",
    Takes::Number(1, limit::MOST_MIB as i64),
    "1024",
    "the largest row accepted, in MiB: a row is held in memory whole",
);

/// How to get at the secret, how to encrypt, and how to get there.
pub const SHARED: [Key; 22] = [
    Key::common(
        "secret",
        Takes::Text,
        "asked for, if the server requires one",
        "where the password comes from: ask, keyring, or env:NAME",
    ),
    Key::rare("secret_command", Takes::Text, "", "a command that prints the password"),
    Key::rare("password", Takes::Text, "", "the password in plain text; the file must be readable by its owner only"),
    Key::common(
        "tls",
        Takes::Word(TLS),
        "prefer on this machine, else verify-full",
        "off, prefer, require or verify-full; verify-full by default for other machines",
    ),
    Key::rare("tls_ca", Takes::Path, "", "certificates to trust instead of the system's, a PEM file"),
    Key::rare("tls_cert", Takes::Path, "", "the client certificate, a PEM file"),
    Key::rare("tls_key", Takes::Path, "", "the key of the client certificate, a PEM file"),
    Key::rare("ssh", Takes::Text, "", "an SSH server to go through, user@host:port"),
    Key::rare("ssh_key", Takes::Path, "", "the key for the SSH server; without it the agent's keys"),
    Key::rare("ssh_secret_command", Takes::Text, "", "a command that prints the SSH password or the key's passphrase"),
    Key::rare("ssh_jump", Takes::Text, "", "an SSH server before that one, user@host:port"),
    Key::rare("ssh_known_hosts", Takes::Path, "~/.ssh/known_hosts", "the file of known SSH servers"),
    Key::rare(
        "connect_seconds",
        Takes::Number(1, 600),
        "10",
        "how long connecting may take, including the first queries",
    ),
    Key::rare(
        "stop_seconds",
        Takes::Number(1, 600),
        "1, and 3 through ssh",
        "how long the server may take to cancel a statement",
    ),
    CHECK,
    KEEP,
    LARGEST,
    Key::rare("idle_minutes", Takes::Number(0, 100_000), "60", "disconnect after so long without use; 0 never does"),
    Key::rare("url", Takes::Text, "", "a URL instead of, or together with, the other keys"),
    Key::common("host", Takes::Text, "127.0.0.1", "a name, an address, or the folder or file of a Unix socket"),
    Key::common("user", Takes::Text, "", "the user to log in as"),
    Key::common("database", Takes::Text, "", "the database to start in"),
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
