//! The connections of a session: one to the server of its profile, and in a cluster one to each server that keys led to.
//!
//! A command goes to the server of the profile, or to the one that is known to hold its key; where the answer is that
//! another holds it, it is sent there, and that is kept in mind. What is watched, and a transaction, are of one server.

use std::collections::HashSet;
use std::time::Duration;

use jaunty_seam::engine::{Flow, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use redis::{Cmd, PushInfo, Value};

use super::cluster::{Elsewhere, Slots, slot};
use super::connect::{Door, Link};
use super::errors::{failed, refusal};
use crate::net::reach::Address;
use crate::net::work::{self, Beside, unless_stopped, with_cancel};

/// How long a command may take to end after it was asked to. Most commands cannot be ended at all;
/// then the connection is let go, and a new one takes its place.
const GRACE: Duration = Duration::from_millis(500);

/// How long a script that goes on is asked to end.
const SCRIPT_PATIENCE: Duration = Duration::from_secs(30);

/// How often a command is sent to another server before that is taken for a circle.
const REDIRECTIONS: usize = 8;

/// A command: its words.
pub type Words = [Vec<u8>];

/// A server, and the connection to it.
struct Node {
    door: Door,
    link: Link,
    /// The server's number of this connection, to end with what waits.
    number: Option<i64>,
    /// What the cluster calls it, where it was reached by another address.
    known_as: Option<Address>,
}

/// Where a server stands in the list of those that are connected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place(usize);

/// The connections.
pub struct Wire {
    runtime: Beside,
    nodes: Vec<Node>,
    /// The server that commands go to whose key leads nowhere else.
    home: Place,
    /// Where keys are watched, or a transaction is open.
    bound: Option<Bound>,
    /// What is known of a cluster; none where the server is alone.
    cluster: Option<Cluster>,
    /// A connection was let go in the middle of a command.
    let_go: bool,
}

/// The server that has all that comes, until a transaction ends.
#[derive(Clone, Copy)]
struct Bound {
    at: Place,
    /// Whether a transaction is open, in which no key has been told of yet.
    is_free: bool,
}

#[derive(Default)]
struct Cluster {
    slots: Slots,
    /// Commands whose first argument is a key, as servers have shown.
    keyed: HashSet<String>,
}

impl Wire {
    /// That of a session which has connected.
    pub fn new(runtime: Beside, door: Door, link: Link) -> Wire {
        let home = Node { door, link, number: None, known_as: None };
        Wire { runtime, nodes: vec![home], home: Place(0), bound: None, cluster: None, let_go: false }
    }

    fn node(&self, at: Place) -> &Node {
        &self.nodes[at.0]
    }

    /// How the server at home is reached.
    pub fn door(&self) -> &Door {
        &self.node(self.home).door
    }

    /// From now on new connections to the server at home go into this database.
    pub fn use_database(&mut self, number: i64) {
        let home = &mut self.nodes[self.home.0];
        home.door = home.door.clone().with_database(number);
    }

    /// What the server at home calls this connection.
    pub fn is_numbered(&mut self, number: Option<i64>) {
        self.nodes[self.home.0].number = number;
    }

    /// Whether a connection was let go: another session has to take this one's place.
    pub fn is_let_go(&self) -> bool {
        self.let_go
    }

    /// Lets the connections go.
    pub fn let_go(&mut self) {
        self.let_go = true;
    }

    /// Whether the server is one of several that hold the keys together.
    pub fn is_cluster(&self) -> bool {
        self.cluster.is_some()
    }

    /// The servers that hold keys, by their addresses; none outside a cluster.
    pub fn holders(&self) -> Vec<Address> {
        let slots = self.cluster.as_ref().map(|cluster| cluster.slots.holders());
        slots.unwrap_or_default().into_iter().cloned().collect()
    }

    /// Reads which servers hold what: the reply to `CLUSTER SLOTS` of the server at home, whose number among them is `own`.
    pub fn know(&mut self, reply: &Value, own: &str) {
        let (slots, known_as) = Slots::read(reply, &self.door().route.address, own);
        self.cluster.get_or_insert_default().slots = slots;
        let home = &mut self.nodes[self.home.0];
        home.known_as = known_as.filter(|address| *address != home.door.route.address);
    }

    /// Which server is at home, as the cluster calls it.
    pub fn home_address(&self) -> &Address {
        let home = self.node(self.home);
        home.known_as.as_ref().unwrap_or(&home.door.route.address)
    }

    /// The places of all servers that hold keys; that of the one at home outside a cluster.
    pub fn all(&mut self, wish: &Stop) -> Result<Vec<Place>, EngineError> {
        let holders = self.holders();
        if holders.is_empty() {
            return Ok(vec![self.home]);
        }
        holders.into_iter().map(|address| self.at(address, wish)).collect()
    }

    /// Makes another server the one at home.
    pub fn move_home(&mut self, address: Address, wish: &Stop) -> Result<(), EngineError> {
        self.home = self.at(address, wish)?;
        Ok(())
    }

    /// The place of a server, which is connected to if it was not yet.
    fn at(&mut self, address: Address, wish: &Stop) -> Result<Place, EngineError> {
        let is_it = |node: &Node| node.door.route.address == address || node.known_as.as_ref() == Some(&address);
        if let Some(at) = self.nodes.iter().position(is_it) {
            return Ok(Place(at));
        }
        let door = self.door().clone().to(address)?;
        let link = self.runtime.block_on(unless_stopped(wish, door.enter()));
        let link = link.map_err(|error| match error.kind {
            ErrorKind::Connect => {
                let what = format!("the cluster has it on {}: {}", door.route.address, error.message);
                EngineError { message: what, kind: ErrorKind::Refused, ..error }
            }
            _ => error,
        })?;
        self.nodes.push(Node { door, link, number: None, known_as: None });
        let at = Place(self.nodes.len() - 1);
        let id = packed(&[b"client".to_vec(), b"id".to_vec()]);
        let mut connection = self.node(at).link.connection.clone();
        let told = self.runtime.block_on(unless_stopped(wish, async {
            connection.send_packed_command(&id).await.map_err(|error| failed(&error))
        }));
        if let Ok(Value::Int(number)) = told {
            self.nodes[at.0].number = Some(number);
        }
        Ok(at)
    }

    /// Where a command is sent first.
    fn first(&mut self, command: &Words, wish: &Stop) -> Place {
        if let Some(bound) = self.bound.filter(|bound| !bound.is_free) {
            return bound.at;
        }
        let holder = self.cluster.as_ref().and_then(|cluster| {
            let key = command.get(1).filter(|_| cluster.keyed.contains(&name(command)))?;
            cluster.slots.holder(slot(key)).cloned()
        });
        let bound = self.bound.map(|bound| bound.at);
        // Where it cannot be reached the server at home will say that the key is there.
        let held = || holder.and_then(|address| self.at(address, wish).ok());
        bound.or_else(held).unwrap_or(self.home)
    }

    /// Sends a command and waits for its reply, looking every now and then whether it is wanted. Returns which server
    /// gave it, too.
    pub fn send(
        &mut self,
        command: &Words,
        wish: &Stop,
        mut look: impl FnMut() -> Flow,
    ) -> Result<(Value, Place), EngineError> {
        let (mut at, mut once) = (self.first(command, wish), false);
        for _ in 0..REDIRECTIONS {
            let answer = self.send_to(at, command, once, &mut look);
            let asked = &self.node(at).door.route.address;
            let Some(elsewhere) = answer.as_ref().err().and_then(|error| Elsewhere::of(error, asked)) else {
                self.is_done(command, at, answer.is_ok());
                return answer.map(|reply| (reply, at));
            };
            let to = self.at(elsewhere.address.clone(), wish)?;
            self.learn(command, &elsewhere);
            self.go(command, at, to, &mut look)?;
            (at, once) = (to, elsewhere.once);
        }
        let what = "the servers of the cluster send this key from one to the other";
        Err(EngineError::new(ErrorKind::Refused, what).remedy("Look at the state of the cluster: cluster info."))
    }

    /// Keeps in mind what a server has said of a key.
    fn learn(&mut self, command: &Words, elsewhere: &Elsewhere) {
        let cluster = self.cluster.get_or_insert_default();
        if command.get(1).is_some_and(|key| slot(key) == elsewhere.slot) {
            cluster.keyed.insert(name(command));
        }
        if !elsewhere.once {
            cluster.slots.is_held(elsewhere.slot, &elsewhere.address);
        }
    }

    /// Whether what is bound to one server can go on at another: a transaction that has just begun can.
    fn go(&mut self, command: &Words, from: Place, to: Place, look: impl FnMut() -> Flow) -> Result<(), EngineError> {
        match self.bound {
            None => Ok(()),
            Some(bound) if bound.is_free => {
                let word = |word: &str| vec![word.as_bytes().to_vec()];
                let mut look = look;
                self.send_to(from, &word("discard"), false, &mut look)?;
                self.send_to(to, &word("multi"), false, &mut look)?;
                self.bound = Some(Bound { at: to, is_free: false });
                Ok(())
            }
            Some(_) => {
                let key = command.get(1).map(|key| String::from_utf8_lossy(key).into_owned()).unwrap_or_default();
                let (here, there) = (&self.node(from).door.route.address, &self.node(to).door.route.address);
                let what = format!("{key} is on {there}, and the transaction or what it watches is on {here}");
                let remedy =
                    "A transaction of a cluster has keys of one slot: the same text in braces, such as {port:7}.";
                Err(EngineError::new(ErrorKind::Refused, what).code("CROSSSLOT").remedy(remedy))
            }
        }
    }

    /// What is bound to a server after a command.
    fn is_done(&mut self, command: &Words, at: Place, is_taken: bool) {
        match name(command).as_str() {
            "WATCH" if is_taken => self.bound = Some(Bound { at, is_free: false }),
            "MULTI" if is_taken => {
                let is_free = self.bound.is_none() && self.cluster.is_some();
                self.bound = Some(Bound { at, is_free });
            }
            // One that is refused is gone as well.
            "EXEC" | "DISCARD" | "RESET" => self.bound = None,
            "UNWATCH" if is_taken => self.bound = None,
            _ => {
                if let Some(bound) = &mut self.bound {
                    bound.is_free = false;
                }
            }
        }
    }

    /// Sends a command to one server; an error is the server's own word, also that another has the key. What is asked
    /// `once` is answered although its slot is still being moved there.
    pub fn send_to(
        &mut self,
        at: Place,
        command: &Words,
        once: bool,
        look: impl FnMut() -> Flow,
    ) -> Result<Value, EngineError> {
        let node = self.node(at);
        let (door, number, mut connection) = (node.door.clone(), node.number, node.link.connection.clone());
        let (asking, packed) = (packed(&[b"asking".to_vec()]), packed(command));
        let sent = self.runtime.block_on(async {
            let number = number.filter(|_| may_wait(command));
            let work = async {
                if once {
                    connection.send_packed_command(&asking).await?;
                }
                connection.send_packed_command(&packed).await
            };
            with_cancel(work, look, unblock(door.clone(), number), GRACE).await
        });
        match sent {
            Ok(Ok(reply)) => refusal(&reply).map_or(Ok(reply), Err),
            Ok(Err(error)) => Err(door.bound.exceeded().unwrap_or_else(|| failed(&error))),
            Err(_) => {
                self.let_go = true;
                let scripts = ["EVAL", "EVALSHA", "FCALL", "EVAL_RO", "EVALSHA_RO", "FCALL_RO"];
                if scripts.contains(&name(command).as_str()) {
                    end_script(door);
                }
                Err(EngineError::stopped())
            }
        }
    }

    /// Sends commands one after the other without waiting between them, and returns their replies: an error of one is its
    /// reply. In a cluster the first argument of each is taken for a key, which tells where it is sent.
    pub fn send_all(
        &mut self,
        commands: &[Vec<Vec<u8>>],
        wish: &Stop,
        mut look: impl FnMut() -> Flow,
    ) -> Result<Vec<Value>, EngineError> {
        if self.cluster.is_none() {
            return self.send_all_to(self.home, commands.iter(), look);
        }
        let mut places = Vec::with_capacity(commands.len());
        for command in commands {
            places.push(self.place_of(command, wish)?);
        }
        // What has no key goes with what is before it.
        let first = places.iter().flatten().next().copied();
        let mut last = self.bound.map(|bound| bound.at).or(first).unwrap_or(self.home);
        let with_last = |place: Option<Place>| {
            last = place.unwrap_or(last);
            last
        };
        let places: Vec<Place> = places.into_iter().map(with_last).collect();
        let mut replies = vec![Value::Nil; commands.len()];
        for at in (0..self.nodes.len()).map(Place).filter(|at| places.contains(at)) {
            let of_it = |(number, place): (usize, &Place)| (*place == at).then_some(number);
            let numbers: Vec<usize> = places.iter().enumerate().filter_map(of_it).collect();
            let told = self.send_all_to(at, numbers.iter().map(|number| &commands[*number]), &mut look)?;
            for (number, reply) in numbers.into_iter().zip(told) {
                replies[number] = reply;
            }
        }
        let opens = commands.iter().any(|command| name(command) == "MULTI");
        for (number, command) in commands.iter().enumerate() {
            self.is_done(command, places[number], refusal(&replies[number]).is_none());
            // Slots are moved while a cluster grows.
            let asked = &self.node(places[number]).door.route.address;
            let elsewhere = refusal(&replies[number]).and_then(|error| Elsewhere::of(&error, asked));
            let Some(elsewhere) = elsewhere else { continue };
            self.learn(command, &elsewhere);
            // A transaction cannot be sent again in parts: the next one goes there.
            if !opens {
                replies[number] = self.send(command, wish, &mut look)?.0;
            }
        }
        Ok(replies)
    }

    /// The server that holds the first argument of a command, if it has one.
    fn place_of(&mut self, command: &Words, wish: &Stop) -> Result<Option<Place>, EngineError> {
        let slots = self.cluster.as_ref().map(|cluster| &cluster.slots);
        let holder = command.get(1).and_then(|key| slots?.holder(slot(key)).cloned());
        holder.map(|address| self.at(address, wish)).transpose()
    }

    fn send_all_to<'a>(
        &mut self,
        at: Place,
        commands: impl ExactSizeIterator<Item = &'a Vec<Vec<u8>>>,
        look: impl FnMut() -> Flow,
    ) -> Result<Vec<Value>, EngineError> {
        let count = commands.len();
        // The driver takes nothing for a mistake.
        if count == 0 {
            return Ok(Vec::new());
        }
        let mut all = redis::Pipeline::with_capacity(count);
        for command in commands {
            all.add_command(packed(command));
        }
        let node = self.node(at);
        let (door, mut connection) = (node.door.clone(), node.link.connection.clone());
        let sent = self.runtime.block_on(async {
            let work = async { connection.send_packed_commands(&all, 0, count).await };
            with_cancel(work, look, std::future::ready(()), GRACE).await
        });
        match sent {
            Ok(replies) => replies.map_err(|error| door.bound.exceeded().unwrap_or_else(|| failed(&error))),
            Err(_) => {
                self.let_go = true;
                Err(EngineError::stopped())
            }
        }
    }

    /// Asks the server at home on a connection of its own: what a transaction would only note down.
    pub fn ask_beside(&self, command: &Words, wish: &Stop) -> Result<Value, EngineError> {
        self.runtime.block_on(unless_stopped(wish, async {
            let link = self.door().enter_beside().await?;
            let mut connection = link.connection;
            connection.send_packed_command(&packed(command)).await.map_err(|error| failed(&error))
        }))
    }

    /// The next message that a server sends unasked; none when it has closed the connection.
    pub fn pushed(&mut self, at: Place, look: impl FnMut() -> Flow) -> Result<Option<PushInfo>, EngineError> {
        let pushed = &mut self.nodes[at.0].link.pushed;
        let next = self.runtime.block_on(with_cancel(pushed.recv(), look, std::future::ready(()), GRACE));
        next.map_err(|_| {
            // Other commands are refused while it listens: the next one takes a new connection.
            self.let_go = true;
            EngineError::stopped()
        })
    }

    /// Whether the server at home answers.
    pub fn answers(&self) -> bool {
        let (mut connection, ping) = (self.node(self.home).link.connection.clone(), packed(&[b"ping".to_vec()]));
        let asked = async { tokio::time::timeout(work::PATIENCE, connection.send_packed_command(&ping)).await };
        matches!(self.runtime.block_on(asked), Ok(Ok(_)))
    }
}

fn packed(command: &Words) -> Cmd {
    let mut packed = Cmd::new();
    for argument in command {
        packed.arg(argument.as_slice());
    }
    packed
}

/// A command's name, in capitals.
pub fn name(command: &Words) -> String {
    command.first().map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default()
}

/// Whether a command may wait without an end.
fn may_wait(command: &Words) -> bool {
    const WAIT: &[&str] = &[
        "BLPOP",
        "BRPOP",
        "BLMOVE",
        "BRPOPLPUSH",
        "BLMPOP",
        "BZPOPMIN",
        "BZPOPMAX",
        "BZMPOP",
        "XREAD",
        "XREADGROUP",
        "WAIT",
    ];
    WAIT.contains(&name(command).as_str())
}

/// Asks the server, on a connection of its own, to end what runs: a command that waits, or a script.
async fn unblock(door: Door, number: Option<i64>) {
    let Some(number) = number else { return };
    let asked = async {
        let Ok(link) = door.enter_beside().await else { return };
        let mut connection = link.connection;
        let mut command = Cmd::new();
        command.arg("client").arg("unblock").arg(number).arg("error");
        let _ = connection.send_packed_command(&command).await;
    };
    let _ = tokio::time::timeout(GRACE, asked).await;
}

/// Ends a script that goes on after its connection was let go. The server listens to nobody until
/// the script has run for some seconds; from then on it takes the wish to end it, and nothing else.
fn end_script(door: Door) {
    let end = move || {
        let Ok(runtime) = work::runtime() else { return };
        // Choosing a database is refused meanwhile, and not needed.
        let door = door.with_database(0);
        let asked = async {
            loop {
                if let Ok(Link { mut connection, .. }) = door.enter_beside().await {
                    for kind in ["script", "function"] {
                        let mut command = Cmd::new();
                        command.arg(kind).arg("kill");
                        let answer = connection.send_packed_command(&command).await;
                        tracing::debug!(?answer, kind, "a script was to end");
                    }
                    return;
                }
                tokio::time::sleep(GRACE).await;
            }
        };
        let _ = runtime.block_on(async { tokio::time::timeout(SCRIPT_PATIENCE, asked).await });
    };
    if let Err(error) = std::thread::Builder::new().name("end script".into()).spawn(end) {
        tracing::warn!(%error, "a script goes on");
    }
}
