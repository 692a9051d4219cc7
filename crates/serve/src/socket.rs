//! The sockets by which programs of one person talk to each other: each screen listens on one of its own, named by its
//! project, so that others of the project find it.
//!
//! Messages are JSON-RPC 2.0, one a line (<https://www.jsonrpc.org/specification>). The folder is its owner's alone,
//! and whoever connects is asked by the system whose it is.

use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use jaunty_core::files::{Folders, private_folder};
use serde_json::{Value, json};

use crate::wire::{Incoming, PARSE_ERROR, Refusal, understood};

/// A line of more bytes is not taken.
const LONGEST: u64 = 64 << 20;

/// Connections that are served at once: more are let go.
const MOST: usize = 64;

/// The folder of the sockets: of the session, if there is one, or of the person.
pub fn folder(folders: &Folders) -> PathBuf {
    let session = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|folder| folder.is_dir());
    session.map_or_else(|| folders.state.join("run"), |folder| folder.join("jaunty"))
}

/// The project that a folder belongs to: the nearest one around it with a folder of ours, or itself.
pub fn project_of(folder: &Path) -> PathBuf {
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    let project = folder.ancestors().find(|folder| folder.join(".jaunty").is_dir()).map(Path::to_owned);
    project.unwrap_or(folder)
}

fn stem(project: &Path) -> String {
    let mut hasher = DefaultHasher::new();
    project.hash(&mut hasher);
    format!("{:016x}-", hasher.finish())
}

/// The sockets of a project, the newest first. Whether somebody listens is seen when one is connected to.
pub fn sockets(folder: &Path, project: &Path) -> Vec<PathBuf> {
    let stem = stem(project);
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut found: Vec<_> = entries
        .filter(|entry| entry.file_name().to_string_lossy().starts_with(&stem))
        .map(|entry| (entry.metadata().and_then(|data| data.modified()).ok(), entry.path()))
        .collect();
    found.sort();
    found.into_iter().rev().map(|(_, path)| path).collect()
}

/// Connects to a socket; one that nobody listens at any more is removed.
pub fn connect(path: &Path) -> io::Result<UnixStream> {
    let stream = UnixStream::connect(path);
    if stream.as_ref().is_err_and(|error| error.kind() == io::ErrorKind::ConnectionRefused) {
        let _ = fs::remove_file(path);
    }
    let stream = stream?;
    is_own(&stream)?;
    Ok(stream)
}

/// Whether the other side is a program of this person.
fn is_own(stream: &UnixStream) -> io::Result<()> {
    let theirs = rustix::net::sockopt::socket_peercred(stream)?.uid;
    match theirs == rustix::process::geteuid() {
        true => Ok(()),
        false => Err(io::Error::new(io::ErrorKind::PermissionDenied, "the other side is another user's")),
    }
}

/// Tells the other side of a connection something that it did not ask for. False once it is gone.
pub type Tell = Arc<dyn Fn(Value) -> bool + Send + Sync>;

/// Answers a method with its parameters; what is told meanwhile goes by the third.
pub type Answer = Arc<dyn Fn(&str, &Value, &Tell) -> Result<Value, Refusal> + Send + Sync>;

/// A socket that is listened at. Dropping it ends that and removes it.
#[derive(Debug)]
pub struct Listening {
    path: PathBuf,
    over: Arc<AtomicBool>,
}

impl Listening {
    /// Its file.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        let _ = fs::remove_file(&self.path);
    }
}

/// Listens for programs of a project.
pub fn listen(folder: &Path, project: &Path, answer: Answer) -> io::Result<Listening> {
    private_folder(folder)?;
    // One that was there before us must not let others in either.
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    let path = folder.join(format!("{}{}.sock", stem(project), std::process::id()));
    // Of a process that is gone and had our number.
    match fs::remove_file(&path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let listener = UnixListener::bind(&path)?;
    fs::set_permissions(&path, fs::Permissions::from_mode(0o600))?;
    let over = Arc::new(AtomicBool::new(false));
    let listening = Listening { path, over: Arc::clone(&over) };
    thread::Builder::new().name("socket".into()).spawn(move || {
        let served = Arc::new(());
        for stream in listener.incoming() {
            if over.load(Ordering::Relaxed) {
                return;
            }
            let Ok(stream) = stream else {
                // None are left to be had: others end first.
                thread::sleep(Duration::from_millis(50));
                continue;
            };
            if let Err(error) = is_own(&stream) {
                tracing::warn!(%error, "a connection was refused");
                continue;
            }
            if Arc::strong_count(&served) > MOST {
                continue;
            }
            let (answer, one) = (Arc::clone(&answer), Arc::clone(&served));
            let _ = thread::Builder::new().name("program".into()).spawn(move || {
                let _one = one;
                if let (Ok(out), Ok(whole)) = (stream.try_clone(), stream.try_clone()) {
                    serve_lines(BufReader::new(stream), out, &answer);
                    // What is still told later has nobody to be told to.
                    let _ = whole.shutdown(std::net::Shutdown::Both);
                }
            });
        }
    })?;
    Ok(listening)
}

/// Answers messages, one a line, until no more come.
pub fn serve_lines(mut input: impl BufRead, output: impl Write + Send + 'static, answer: &Answer) {
    let output = Arc::new(std::sync::Mutex::new(output));
    let tell: Tell = Arc::new(move |message: Value| {
        let mut output = output.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        // In one piece: a message is many small ones as it is made.
        output.write_all(format!("{message}\n").as_bytes()).and_then(|()| output.flush()).is_ok()
    });
    loop {
        let mut line = Vec::new();
        match input.by_ref().take(LONGEST).read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => return,
            Ok(_) => {}
        }
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let told = match serde_json::from_slice::<Value>(&line) {
            Ok(message) if message.get("jsonrpc").is_some_and(|version| version != "2.0") => {
                Refusal::params("this is version 2.0 of JSON-RPC").to(&message["id"])
            }
            Ok(message) => match understood(message) {
                Incoming::Request { id, method, params } => match answer(&method, &params, &tell) {
                    Ok(result) => json!({"jsonrpc": "2.0", "id": id, "result": result}),
                    Err(refusal) => refusal.to(&id),
                },
                // Nobody waits for an answer to what is only told.
                Incoming::Notification { method, params } => {
                    let _ = answer(&method, &params, &tell);
                    continue;
                }
                Incoming::Response { .. } => continue,
                Incoming::Garbled(answer) => answer,
            },
            Err(error) => {
                Refusal { code: PARSE_ERROR, message: format!("the line is not JSON: {error}") }.to(&Value::Null)
            }
        };
        if !tell(told) {
            return;
        }
    }
}

/// Asks one thing over a connection: the result, or the sentence of its error. What is told meanwhile is given to
/// `told`.
pub fn ask(
    stream: &mut BufReader<UnixStream>,
    method: &str,
    params: &Value,
    mut told: impl FnMut(&Value),
) -> io::Result<Result<Value, String>> {
    let message = json!({"jsonrpc": "2.0", "id": 1, "method": method, "params": params});
    stream.get_mut().write_all(format!("{message}\n").as_bytes())?;
    loop {
        let mut line = String::new();
        if stream.by_ref().take(LONGEST).read_line(&mut line)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let message: Value = serde_json::from_str(&line).map_err(io::Error::other)?;
        match understood(message) {
            Incoming::Response { result: Ok(result), .. } => return Ok(Ok(result)),
            Incoming::Response { result: Err(error), .. } => {
                return Ok(Err(error["message"].as_str().unwrap_or("refused").to_owned()));
            }
            Incoming::Notification { params, .. } => told(&params),
            _ => {}
        }
    }
}

/// Gives each thing that is told over a connection, until the other side ends it.
pub fn each_told<E>(mut stream: BufReader<UnixStream>, mut told: impl FnMut(&Value) -> Result<(), E>) -> Result<(), E> {
    loop {
        let mut line = String::new();
        match stream.by_ref().take(LONGEST).read_line(&mut line) {
            Ok(0) | Err(_) => return Ok(()),
            Ok(_) => {}
        }
        if let Ok(Incoming::Notification { params, .. }) = serde_json::from_str(&line).map(understood) {
            told(&params)?;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn echo() -> Answer {
        Arc::new(|method, params, _| match method {
            "echo" => Ok(params.clone()),
            other => Err(Refusal::params(format!("no {other}"))),
        })
    }

    #[test]
    fn programs_of_a_project_find_each_other() {
        let folder = tempfile::tempdir().unwrap();
        let (sockets_of, project) = (folder.path().join("run"), folder.path().join("project"));
        fs::create_dir_all(project.join(".jaunty")).unwrap();
        fs::create_dir_all(project.join("deep/er")).unwrap();
        let project = project_of(&project.join("deep/er"));
        assert!(project.ends_with("project"));
        let listening = listen(&sockets_of, &project, echo()).unwrap();
        assert_eq!(sockets(&sockets_of, &project), [listening.path()]);
        assert_eq!(sockets(&sockets_of, folder.path()), Vec::<PathBuf>::new());
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(listening.path()), mode(&sockets_of)), (0o600, 0o700));
        let mut stream = BufReader::new(connect(listening.path()).unwrap());
        assert_eq!(ask(&mut stream, "echo", &json!({"a": 1}), |_| {}).unwrap(), Ok(json!({"a": 1})));
        assert_eq!(ask(&mut stream, "other", &json!({}), |_| {}).unwrap(), Err("no other".to_owned()));
        // One that a dead process left is removed by whoever finds it.
        let stale = listening.path().with_extension("old");
        drop(UnixListener::bind(&stale).unwrap());
        assert!(connect(&stale).is_err() && !stale.exists());
        let path = listening.path().to_owned();
        drop(listening);
        assert!(!path.exists());
    }

    #[test]
    fn lines_that_are_no_messages_are_answered() {
        let lines = "\n{\n[]\n7\n{\"jsonrpc\":\"1.0\",\"id\":1,\"method\":\"echo\"}\n{\"method\":\"echo\"}\n\
            {\"id\":2,\"result\":1}\n{\"jsonrpc\":\"2.0\",\"id\":3,\"method\":\"echo\",\"params\":[5]}\n\u{0}\n";
        let (mut ours, theirs) = UnixStream::pair().unwrap();
        serve_lines(lines.as_bytes(), theirs, &echo());
        let mut answers = String::new();
        ours.read_to_string(&mut answers).unwrap();
        let answers: Vec<Value> = answers.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let codes: Vec<&Value> = answers.iter().map(|answer| &answer["error"]["code"]).collect();
        assert_eq!(
            codes,
            [&json!(-32700), &json!(-32600), &json!(-32600), &json!(-32602), &Value::Null, &json!(-32700)]
        );
        assert_eq!(answers[4]["result"], json!([5]));
    }
}
