//! A stand-in in a terminal.

use std::path::PathBuf;
use std::process::ExitCode;

use jaunty_standins::{Tls, documents, tds};

const USAGE: &str = "\
jaunty-standins tds [--data FILE] [--database NAME=FILE] [--port PORT] [--cert FILE --key FILE] [--require-tls]
jaunty-standins documents [--data FOLDER] [--port PORT] [--cert FILE --key FILE] [--login] [--members COUNT]";

fn main() -> ExitCode {
    match serve(std::env::args().skip(1)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(problem) => {
            eprintln!("jaunty-standins: {problem}\n{USAGE}");
            ExitCode::FAILURE
        }
    }
}

/// What was written after the name of the stand-in.
#[derive(Default)]
struct Written {
    data: Option<PathBuf>,
    others: Vec<(String, PathBuf)>,
    port: u16,
    cert: Option<PathBuf>,
    key: Option<PathBuf>,
    requires_tls: bool,
    login: bool,
    members: Option<usize>,
}

fn serve(mut arguments: impl Iterator<Item = String>) -> Result<(), String> {
    let which = arguments.next().ok_or("which stand-in?")?;
    let mut written = Written::default();
    while let Some(argument) = arguments.next() {
        let mut value = || arguments.next().ok_or_else(|| format!("{argument} needs a value"));
        let number = |what: &str| format!("{what} is a number");
        match argument.as_str() {
            "--data" => written.data = Some(PathBuf::from(value()?)),
            "--database" => {
                let value = value()?;
                let (name, file) = value.split_once('=').ok_or("a database is NAME=FILE")?;
                written.others.push((name.to_owned(), PathBuf::from(file)));
            }
            "--port" => written.port = value()?.parse().map_err(|_| number("the port"))?,
            "--cert" => written.cert = Some(PathBuf::from(value()?)),
            "--key" => written.key = Some(PathBuf::from(value()?)),
            "--require-tls" => written.requires_tls = true,
            "--login" => written.login = true,
            "--members" => written.members = Some(value()?.parse().map_err(|_| number("the count of members"))?),
            other => return Err(format!("{other} is not known")),
        }
    }
    match which.as_str() {
        "tds" => serve_tds(written),
        "documents" => serve_documents(written),
        other => Err(format!("there is no stand-in called {other}")),
    }
}

fn tls(cert: Option<PathBuf>, key: Option<PathBuf>) -> Option<Tls> {
    Some(Tls { cert: cert?, key: key? })
}

fn serve_tds(written: Written) -> Result<(), String> {
    let mut options = tds::Options { data: written.data, port: written.port, ..tds::Options::default() };
    options.others = written.others;
    options.tls = tls(written.cert, written.key);
    options.requires_tls = written.requires_tls;
    let password = options.password.clone();
    let server = tds::Server::start(options).map_err(|error| error.to_string())?;
    eprintln!("SQL Server's stand-in listens on 127.0.0.1:{}; log in as clerk, password {password}", server.port());
    wait()
}

fn serve_documents(written: Written) -> Result<(), String> {
    let mut options = documents::Options { data: written.data, port: written.port, ..documents::Options::default() };
    options.tls = tls(written.cert, written.key);
    options.login = written.login.then(|| ("clerk".to_owned(), "salt and fog".to_owned()));
    options.replica_set = written.members.map(|count| ("fleet".to_owned(), count));
    let login = if written.login { "; log in as clerk, password salt and fog" } else { "" };
    let server = documents::Server::start(options).map_err(|error| error.to_string())?;
    let ports: Vec<String> = server.ports().iter().map(|port| format!("127.0.0.1:{port}")).collect();
    eprintln!("The stand-in of document databases listens on {}{login}", ports.join(", "));
    wait()
}

fn wait() -> ! {
    loop {
        std::thread::park();
    }
}
