//! `dozor serve`: what is watched here for others, over HTTP, read-only; and pushing to a collector.

use super::check;
use super::options::{Kept, KernelFiles, Misuse, interval};
use super::problem;
use super::selection::Selection;
use crate::serve::push::{Encoding, Outgoing};
use crate::serve::{Guard, Listen, Noted, Past, Sampling, Server, Service, sample_on};
use anyhow::Context as _;
use clap::Args;
use dozor_core::source::Source as _;
use dozor_core::wanted::Wanted;
use dozor_linux::{files, trusted};
use std::net::{SocketAddr, TcpListener, ToSocketAddrs as _};
use std::os::unix::fs::{FileTypeExt as _, PermissionsExt as _};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

/// Where it listens where nobody says anything else: on this machine alone.
const USUAL: &str = "127.0.0.1:7373";
/// The shortest token, and the longest.
const SHORTEST: usize = crate::serve::SHORTEST_TOKEN;
const LONGEST: u64 = 4_096;

#[derive(Args)]
pub struct Serve {
    /// Listen on this address [default: 127.0.0.1:7373, where neither --unix nor --push is given]
    #[arg(long, value_name = "ADDRESS:PORT")]
    listen: Option<String>,
    /// Listen on a socket in the file system; who may open it may ask
    #[arg(long, value_name = "PATH")]
    unix: Option<PathBuf>,
    /// The token that clients must send, in this file; needed where others than this machine can ask
    #[arg(long, value_name = "FILE")]
    token_file: Option<PathBuf>,
    /// Let every user of this machine ask for everything, command lines and recordings too; else only you and root may, and others for
    /// /metrics and /health
    #[arg(long, conflicts_with = "token_file")]
    open: bool,
    /// Also serve the recordings in this folder
    #[arg(long, value_name = "FOLDER")]
    recordings: Option<PathBuf>,
    /// Push samples to a collector of OTLP over HTTP; the usual path is put behind a host alone
    #[arg(long, value_name = "URL")]
    push: Option<String>,
    /// In which form it is pushed
    #[arg(long, value_enum, default_value = "protobuf", requires = "push")]
    push_as: Encoding,
    /// Time between samples
    #[arg(long, value_name = "DURATION", default_value = "5s", value_parser = interval)]
    every: Duration,
    /// Processes that collectors are told of at most, so that the number of series is bounded
    #[arg(long, value_name = "NUMBER", default_value_t = 40)]
    processes: usize,
    /// Processes on the live page at most
    #[arg(long, value_name = "NUMBER", default_value_t = 500)]
    shown: usize,
    #[command(flatten)]
    kept: Kept,
    #[command(flatten)]
    files: KernelFiles,
}

impl Serve {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        self.kept.check_users()?;
        if let Some(url) = self.push.as_deref().filter(|url| !url.starts_with("http://")) {
            let why = if url.starts_with("https://") {
                "TLS is left to a proxy or a collector on this machine; push to it by http://"
            } else {
                "expected one that begins with http://"
            };
            return Err(Misuse(format!("--push {url}: {why}")).into());
        }
        let token = self.token()?;
        let (listeners, local) = self.listeners(token.is_some())?;
        let mut selection = Selection::new(self.kept.narrowing()?);
        let mut source = self.files.source()?;
        source.want(Wanted::recorded().union(selection.narrowing.wanted()));
        let host = Arc::new(source.host());
        let past = match &self.recordings {
            Some(folder) if !folder.is_dir() => {
                return Err(Misuse(format!("--recordings {}: it is no folder", folder.display())).into());
            }
            folder => folder.clone().map(|folder| Arc::new(Past::new(folder, self.shown))),
        };
        let outgoing =
            self.push.as_ref().map(|url| Outgoing::start(url, self.push_as, host.clone(), problem::say));
        let narrowed = host.clone();
        let noted = past.clone().map(Noted::watch).unwrap_or_default();
        let (shared, readings) = sample_on(Sampling {
            source: Box::new(source),
            host: host.clone(),
            every: self.every,
            told: self.processes,
            shown: self.shown,
            narrow: Box::new(move |reading| selection.of(&narrowed, reading)),
            noted: noted.clone(),
            engine: check::engine(),
            outgoing,
        });
        let service = Service {
            shared,
            readings,
            host,
            every: self.every,
            guard: Guard { token, local, open: self.open, owner: rustix::process::geteuid().as_raw() },
            past,
            noted,
            followers: Arc::new(Semaphore::new(crate::serve::FOLLOWERS)),
            begin: Instant::now(),
        };
        if listeners.is_empty() {
            // Sampling and pushing are threads of their own.
            loop {
                std::thread::park();
            }
        }
        let ended = Server { service }.run(listeners);
        ended.context("serving ended")?;
        Ok(None)
    }

    /// The token, from its file.
    fn token(&self) -> anyhow::Result<Option<String>> {
        let Some(path) = &self.token_file else { return Ok(None) };
        let told = |why: &str| anyhow::Error::from(Misuse(format!("--token-file {}: {why}", path.display())));
        let file = trusted::open(path).map_err(|why| told(&why.to_string()))?;
        let rights = file.metadata().map_or(0o777, |data| data.permissions().mode());
        let token = files::text_of(file, LONGEST).map_err(|why| told(&why))?.trim().to_owned();
        if rights & 0o077 != 0 {
            return Err(told("others may read it; chmod 600 keeps it secret"));
        }
        if token.len() < SHORTEST || token.contains(char::is_whitespace) {
            return Err(told(&format!("expected one word of at least {SHORTEST} letters")));
        }
        Ok(Some(token))
    }

    /// Where it listens, and whether that is this machine alone.
    fn listeners(&self, has_token: bool) -> anyhow::Result<(Vec<Listen>, bool)> {
        let mut listeners = vec![];
        let mut local = true;
        let alone = self.unix.is_none() && self.push.is_none();
        if let Some(address) = self.listen.as_deref().or(alone.then_some(USUAL)) {
            let addresses: Vec<SocketAddr> = address
                .to_socket_addrs()
                .map_err(|_| {
                    Misuse(format!("--listen {address}: expected an address and a port, such as {USUAL}"))
                })?
                .collect();
            local = addresses.iter().all(|address| address.ip().is_loopback());
            if !local && !has_token {
                return Err(Misuse(format!(
                    "--listen {address}: others than this machine can ask there, so a token is needed: --token-file FILE. What is sent is not encrypted; put a proxy with TLS in front of it"
                ))
                .into());
            }
            let listener = TcpListener::bind(&addresses[..]).map_err(|error| {
                anyhow::anyhow!("{address}: {}", dozor_core::text::without_number(&error))
            })?;
            let whom = match (has_token, self.open) {
                (true, _) => "who has the token",
                (false, true) => "every user of this machine, command lines too",
                (false, false) => "you and root; /metrics and /health to every user",
            };
            problem::say(&format!("serving on http://{} to {whom}", listener.local_addr()?));
            listeners.push(Listen::Tcp(listener));
        }
        if let Some(path) = &self.unix {
            listeners.push(Listen::Unix(socket(path)?));
            problem::say(&format!("serving on {}", path.display()));
        }
        Ok((listeners, local))
    }
}

/// A socket in the file system, for oneself; one that nobody listens on any more gives way.
fn socket(path: &Path) -> anyhow::Result<UnixListener> {
    let told = |error: std::io::Error| {
        anyhow::anyhow!("{}: {}", path.display(), dozor_core::text::without_number(&error))
    };
    if let Ok(data) = std::fs::symlink_metadata(path) {
        if !data.file_type().is_socket() {
            return Err(Misuse(format!("{}: there is something else already", path.display())).into());
        }
        if UnixStream::connect(path).is_ok() {
            return Err(Misuse(format!("{}: somebody else listens there", path.display())).into());
        }
        std::fs::remove_file(path).map_err(told)?;
    }
    // It is made in a folder that nobody else can enter, and moved when its rights are set.
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let private = tempfile::Builder::new().prefix(".dozor-").tempdir_in(folder).map_err(told)?;
    let beside = private.path().join("socket");
    let listener = UnixListener::bind(&beside).map_err(told)?;
    std::fs::set_permissions(&beside, std::fs::Permissions::from_mode(0o600)).map_err(told)?;
    std::fs::rename(&beside, path).map_err(told)?;
    Ok(listener)
}
