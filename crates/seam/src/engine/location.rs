//! Where a session is.

/// Where a session is. What an engine does not have stays empty.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Location {
    /// The server's name and version, as `sqlite 3.51.1`.
    pub server: String,
    /// Which of several servers that hold the data together it is, as `host:port`; empty where there is one.
    pub node: String,
    /// The database: a name, or a file's name.
    pub database: String,
    /// The schema that plain names are looked up in.
    pub schema: String,
    /// Who is connected, or the role that was taken on.
    pub user: String,
    /// The server's own number of this session, as `process 4711`: what its log and its list of sessions call
    /// it. Empty inside this process.
    pub session: String,
    /// How the server is reached, as `TLSv1.3, verified`; empty inside this process.
    pub transport: String,
    /// The open transaction, if there is one.
    pub transaction: Option<Transaction>,
    /// Whether a read-only session has been told to let writes through, and could not be told otherwise again.
    pub guard_lifted: bool,
    /// Whether something ran that may have led elsewhere in a way that the protocol does not tell:
    /// [`super::Session::locate`] asks.
    pub uncertain: bool,
}

impl Location {
    /// Whether a transaction is open.
    pub fn in_transaction(&self) -> bool {
        self.transaction.is_some()
    }
}

/// An open transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transaction {
    /// It can go on.
    Open,
    /// Something in it failed, and the server refuses all but its end.
    Failed,
}

/// Somewhere else on the same server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Switch {
    /// What is changed.
    pub kind: SwitchKind,
    /// The name of the new one.
    pub to: String,
}

/// What can be changed while connected: by the trade's word for it, which is also the key of a profile that chooses
/// one from the start. An engine lists its own ([`super::Session::switches`]).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SwitchKind(pub &'static str);

impl SwitchKind {
    /// The database.
    pub const DATABASE: SwitchKind = SwitchKind("database");
    /// The schema that plain names are looked up in.
    pub const SCHEMA: SwitchKind = SwitchKind("schema");
    /// The server, of several that hold the data together.
    pub const SERVER: SwitchKind = SwitchKind("server");
    /// The role, whose rights count.
    pub const ROLE: SwitchKind = SwitchKind("role");

    /// The trade's word for it.
    pub fn word(self) -> &'static str {
        self.0
    }
}
