//! karst-lines: a program that keeps numbered lines in a file and replicates them over TCP. It is
//! what Karst's drivers are tried against that are not PostgreSQL's.
//!
//! `karst-lines serve DIR ADDRESS CONTROL NAME [UPSTREAM ADDRESS]`. Clients connect to ADDRESS and
//! send `write TEXT`, which is answered `ok NUMBER` once everybody has it who has to, or `read`;
//! standbys send `follow`, `copy` is all of it. Orders come over the socket CONTROL.
//! `karst-lines load ADDRESS,ADDRESS JOURNAL` writes numbered lines until JOURNAL is gone, and notes
//! which were acknowledged, and when; `karst-lines read ADDRESS` prints what a server has.

use serde_json::json;
use std::collections::BTreeMap;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::net::UnixListener;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

const STOP_LIMIT: Duration = Duration::from_millis(500);

type Failure = Box<dyn std::error::Error + Send + core::marker::Sync>;

/// Whom a write waits for.
#[derive(Clone, PartialEq)]
enum Sync {
    Locked,
    Nobody,
    Names(Vec<String>),
}

struct Store {
    name: String,
    lines: Vec<String>,
    /// Each with the number of lines that were there when it began.
    histories: Vec<(String, u64)>,
    primary: bool,
    /// It takes no more writes, and ends once its standbys have everything.
    stopping: bool,
    /// Counts the orders of whom to follow, so that a connection to the last one ends.
    turn: u64,
    upstream: Option<(String, String)>,
    streams: bool,
    sync: Sync,
    setting: (u64, u64),
    /// How many lines there were when that setting came.
    barrier: u64,
    followers: BTreeMap<String, u64>,
    file: File,
}

impl Store {
    fn open(name: &str, follow: Option<(String, String)>) -> Result<Self, Failure> {
        let mut text = std::fs::read_to_string("lines")?;
        // What was cut short in the middle of a line was never acknowledged.
        text.truncate(text.rfind('\n').map_or(0, |end| end + 1));
        std::fs::write("lines", &text)?;
        let mut file = OpenOptions::new().append(true).open("lines")?;
        file.flush()?;
        file.sync_all()?;
        let histories = std::fs::read_to_string("histories")?;
        let histories = histories
            .lines()
            .filter_map(|l| l.split_once(' '))
            .map(|(name, began)| Ok((name.to_string(), began.parse()?)))
            .collect::<Result<_, Failure>>()?;
        Ok(Self {
            name: name.into(),
            lines: text.lines().map(String::from).collect(),
            histories,
            primary: !std::fs::exists("standby")?,
            stopping: false,
            turn: 0,
            upstream: follow,
            streams: false,
            sync: Sync::Locked,
            setting: (0, 0),
            barrier: 0,
            followers: BTreeMap::new(),
            file,
        })
    }

    fn number(&self) -> u64 {
        self.lines.len() as u64
    }

    fn append(&mut self, line: &str) -> Result<u64, Failure> {
        self.file.write_all(format!("{line}\n").as_bytes())?;
        self.file.sync_data()?;
        self.lines.push(line.into());
        Ok(self.number())
    }

    fn keep_histories(&self) -> Result<(), Failure> {
        let text: String = self
            .histories
            .iter()
            .map(|(name, began)| format!("{name} {began}\n"))
            .collect();
        std::fs::write("histories.next", text)?;
        File::open("histories.next")?.sync_all()?;
        Ok(std::fs::rename("histories.next", "histories")?)
    }

    /// How many lines everybody has whom writes wait for.
    fn confirmed(&self) -> u64 {
        let has = |name: &String| self.followers.get(name).copied().unwrap_or(0);
        match &self.sync {
            Sync::Locked => 0,
            Sync::Nobody => u64::MAX,
            Sync::Names(names) => names.iter().map(has).min().unwrap_or(0),
        }
    }

    fn status(&self) -> serde_json::Value {
        let locked = matches!(self.sync, Sync::Locked);
        let held = locked || self.confirmed() >= self.barrier;
        json!({
            "primary": self.primary,
            "history": self.histories.last().map_or("", |(name, _)| name),
            "number": self.number(),
            "streams": self.streams,
            "upstream": self.upstream.as_ref().map(|(name, _)| name),
            "followers": self.followers.iter().collect::<Vec<_>>(),
            "held": if held { self.setting } else { (0, 0) },
        })
    }

    fn promote(&mut self, name: &str) -> Result<serde_json::Value, Failure> {
        if !self.primary {
            self.turn += 1;
            (self.primary, self.upstream, self.streams) = (true, None, false);
            (self.sync, self.setting) = (Sync::Locked, (0, 0));
            self.histories.push((name.into(), self.number()));
            self.keep_histories()?;
            std::fs::remove_file("standby")?;
        }
        let before = self.histories.len().checked_sub(2);
        let (history, began) = self.histories.last().ok_or("there is no history")?;
        Ok(json!({
            "history": history,
            "parent": before.map(|i| &self.histories[i].0),
            "began": began,
            "number": self.number(),
        }))
    }

    /// Whether one with these histories and so many lines can go on from here.
    fn may_follow(&self, theirs: &[(String, u64)], number: u64) -> bool {
        let shared = self.histories.starts_with(theirs);
        let parts_at = self.histories.get(theirs.len());
        shared && number <= parts_at.map_or(self.number(), |(_, began)| *began)
    }
}

/// The store, and a bell for whoever waits for a change of it.
#[derive(Clone)]
struct Shared(Arc<(Mutex<Store>, Condvar)>);

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Store> {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn ring(&self) {
        self.0.1.notify_all();
    }

    /// Waits for a change, for so long at most.
    fn wait<'a>(&self, store: MutexGuard<'a, Store>, limit: Duration) -> MutexGuard<'a, Store> {
        let waited = self.0.1.wait_timeout(store, limit);
        waited.unwrap_or_else(PoisonError::into_inner).0
    }

    fn write(&self, text: &str) -> Result<u64, Failure> {
        let mut store = self.lock();
        if !store.primary || store.stopping {
            return Err("it is a standby, or about to stop".into());
        }
        let number = store.append(text)?;
        self.ring();
        while store.confirmed() < number {
            if !store.primary {
                return Err("it is a standby now".into());
            }
            store = self.wait(store, Duration::from_secs(1));
        }
        Ok(number)
    }

    fn client(&self, stream: TcpStream) -> Result<(), Failure> {
        let mut answers = stream.try_clone()?;
        let mut lines = BufReader::new(stream);
        while let Some(line) = next_line(&mut lines) {
            let (verb, rest) = line.split_once(' ').unwrap_or((&line, ""));
            match verb {
                "write" => match self.write(rest) {
                    Ok(number) => writeln!(answers, "ok {number}")?,
                    Err(why) => writeln!(answers, "no: {why}")?,
                },
                "read" => return self.copy(answers, false),
                "copy" => return self.copy(answers, true),
                "follow" => return self.serve_standby(rest, lines, answers),
                _ => writeln!(answers, "no: send write, read, copy or follow")?,
            }
        }
        Ok(())
    }

    fn copy(&self, mut to: TcpStream, whole: bool) -> Result<(), Failure> {
        let store = self.lock();
        let mut text = String::new();
        if whole {
            for (name, began) in &store.histories {
                text += &format!("{name} {began}\n");
            }
            text += "\n";
        }
        for line in &store.lines {
            text += &format!("{line}\n");
        }
        drop(store);
        Ok(to.write_all(format!("{text}end\n").as_bytes())?)
    }

    /// `NAME NUMBER HISTORY=BEGAN,...`: what it lacks, for as long as it is there.
    fn serve_standby(
        &self,
        rest: &str,
        said: BufReader<TcpStream>,
        mut to: TcpStream,
    ) -> Result<(), Failure> {
        let words: Vec<&str> = rest.split(' ').collect();
        let [name, number, histories] = words[..] else {
            return Err("a standby says its name, its lines and its histories".into());
        };
        let mut number: u64 = number.parse()?;
        let theirs = histories
            .split(',')
            .filter_map(|h| h.split_once('='))
            .map(|(name, began)| Ok((name.to_string(), began.parse()?)))
            .collect::<Result<Vec<(String, u64)>, Failure>>()?;
        let mut store = self.lock();
        if !store.primary || !store.may_follow(&theirs, number) {
            writeln!(to, "no")?;
            return Ok(());
        }
        let turn = store.turn;
        store.followers.insert(name.into(), number);
        writeln!(to, "yes")?;
        let (shared, follower) = (self.clone(), name.to_string());
        let reading = std::thread::spawn(move || shared.hear_standby(&follower, said));
        let mut known = theirs.len();
        while store.primary && store.turn == turn && !reading.is_finished() {
            let mut news = String::new();
            loop {
                match store.histories.get(known) {
                    Some((name, began)) if *began == number => {
                        news += &format!("history {name} {began}\n");
                        known += 1;
                    }
                    _ => match store.lines.get(number as usize) {
                        Some(line) => {
                            news += &format!("line {line}\n");
                            number += 1;
                        }
                        None => break,
                    },
                }
            }
            if news.is_empty() {
                store = self.wait(store, Duration::from_millis(200));
                continue;
            }
            drop(store);
            to.write_all(news.as_bytes())?;
            store = self.lock();
        }
        Ok(())
    }

    /// How far it is, until its connection ends.
    fn hear_standby(&self, name: &str, mut said: BufReader<TcpStream>) {
        while let Some(line) = next_line(&mut said) {
            if let Some(has) = line.strip_prefix("have ").and_then(|n| n.parse().ok()) {
                self.lock().followers.insert(name.into(), has);
                self.ring();
            }
        }
        self.lock().followers.remove(name);
        self.ring();
    }

    /// Follows whoever it is told to, for ever.
    fn follow(&self) {
        loop {
            let (turn, upstream) = {
                let store = self.lock();
                (store.turn, store.upstream.clone())
            };
            if let Some((_, address)) = upstream
                && let Err(why) = self.stream_from(&address, turn)
            {
                eprintln!("{address}: {why}");
            }
            let mut store = self.lock();
            if store.turn == turn {
                store.streams = false;
                drop(self.wait(store, Duration::from_millis(100)));
            }
        }
    }

    fn stream_from(&self, address: &str, turn: u64) -> Result<(), Failure> {
        let address = address.parse()?;
        let mut stream = TcpStream::connect_timeout(&address, Duration::from_secs(1))?;
        stream.set_read_timeout(Some(Duration::from_millis(200)))?;
        let hello = {
            let store = self.lock();
            let histories: Vec<String> = store
                .histories
                .iter()
                .map(|(name, began)| format!("{name}={began}"))
                .collect();
            let (name, number) = (&store.name, store.number());
            format!("follow {name} {number} {}\n", histories.join(","))
        };
        stream.write_all(hello.as_bytes())?;
        let (mut buffer, mut chunk) = (Vec::new(), [0; 65536]);
        let mut accepted = false;
        loop {
            if self.lock().turn != turn {
                return Ok(());
            }
            match stream.read(&mut chunk) {
                Ok(0) => return Err("it hung up".into()),
                Ok(n) => buffer.extend_from_slice(&chunk[..n]),
                Err(e) if e.kind() == std::io::ErrorKind::WouldBlock => continue,
                Err(e) => return Err(e.into()),
            }
            let whole = buffer
                .iter()
                .rposition(|b| *b == b'\n')
                .map_or(0, |n| n + 1);
            let text = String::from_utf8(buffer.drain(..whole).collect())?;
            let mut store = self.lock();
            if store.turn != turn {
                return Ok(());
            }
            for line in text.lines() {
                match line.split_once(' ') {
                    None if line == "yes" => accepted = true,
                    Some(("line", text)) if accepted => drop(store.append(text)?),
                    Some(("history", rest)) if accepted => {
                        let (name, began) =
                            rest.split_once(' ').ok_or("a history without a number")?;
                        let began = began.parse()?;
                        store.histories.push((name.into(), began));
                        store.keep_histories()?;
                    }
                    _ => return Err(format!("it does not send what is lacking: {line}").into()),
                }
            }
            store.streams = accepted;
            let have = format!("have {}\n", store.number());
            drop(store);
            stream.write_all(have.as_bytes())?;
        }
    }

    /// One order of whoever keeps this server.
    fn obey(&self, order: &str) -> Result<serde_json::Value, Failure> {
        let words: Vec<&str> = order.split_whitespace().collect();
        let mut store = self.lock();
        match words[..] {
            ["status"] => return Ok(store.status()),
            ["promote", name] => {
                let promoted = store.promote(name)?;
                self.ring();
                return Ok(promoted);
            }
            ["settle"] => {
                store.turn += 1;
                (store.upstream, store.streams) = (None, false);
            }
            ["follow", name, address] => {
                store.turn += 1;
                store.streams = false;
                store.upstream = Some((name.into(), address.into()));
            }
            ["sync", epoch, number, whom] => {
                let setting = (epoch.parse()?, number.parse()?);
                if !store.primary || setting < store.setting {
                    return Err("it is a standby, or has a newer setting".into());
                }
                let sync = match whom {
                    "locked" => Sync::Locked,
                    "nobody" => Sync::Nobody,
                    names => Sync::Names(names.split(',').map(String::from).collect()),
                };
                if (store.setting, &store.sync) != (setting, &sync) {
                    store.barrier = store.number();
                }
                (store.setting, store.sync) = (setting, sync);
            }
            ["stop"] => self.stop(store),
            _ => return Err("no such order".into()),
        }
        self.ring();
        Ok(json!(true))
    }

    /// Ends once everybody who streams has everything, or after a while.
    fn stop(&self, mut store: MutexGuard<'_, Store>) -> ! {
        store.stopping = true;
        let (begun, all) = (Instant::now(), store.number());
        let behind = |store: &Store| store.followers.values().any(|has| *has < all);
        while behind(&store) && begun.elapsed() < STOP_LIMIT {
            store = self.wait(store, Duration::from_millis(10));
        }
        std::process::exit(0)
    }
}

fn serve(words: &[String]) -> Result<(), Failure> {
    let [dir, address, control, name, upstream @ ..] = words else {
        return Err("serve DIR ADDRESS CONTROL NAME [UPSTREAM ADDRESS]".into());
    };
    let follow = match upstream {
        [name, address] => Some((name.clone(), address.clone())),
        _ => None,
    };
    std::env::set_current_dir(dir)?;
    std::fs::write("pid", format!("{}\n", std::process::id()))?;
    let store = Store::open(name, follow)?;
    let shared = Shared(Arc::new((Mutex::new(store), Condvar::new())));
    let _ = std::fs::remove_file(control);
    let orders = UnixListener::bind(control)?;
    let clients = TcpListener::bind(address)?;
    let following = shared.clone();
    std::thread::spawn(move || following.follow());
    let obeying = shared.clone();
    std::thread::spawn(move || {
        for mut socket in orders.incoming().flatten() {
            let read = socket.try_clone().map(BufReader::new);
            if let Some(order) = read.ok().and_then(|mut read| next_line(&mut read)) {
                let answer = obeying.obey(&order);
                let text = answer.map_or_else(|why| why.to_string(), |answer| answer.to_string());
                let _ = writeln!(socket, "{text}");
            }
        }
    });
    for stream in clients.incoming().flatten() {
        let shared = shared.clone();
        std::thread::spawn(move || shared.client(stream));
    }
    Ok(())
}

/// The next line; none at the end, and what is cut short is no line.
fn next_line(from: &mut impl BufRead) -> Option<String> {
    let mut line = String::new();
    let read = from.read_line(&mut line);
    if read.is_err() || line.pop() != Some('\n') {
        return None;
    }
    Some(line)
}

/// Numbered lines one after the other; each that was acknowledged is noted with the milliseconds
/// that the load had run for.
fn load(addresses: &str, journal: &str) -> Result<(), Failure> {
    let addresses: Vec<&str> = addresses.split(',').collect();
    let (path, mut journal) = (journal, File::create(journal)?);
    let (mut number, mut turn, begun) = (0u64, 0, Instant::now());
    loop {
        if !std::fs::exists(path)? {
            return Ok(());
        }
        let address = addresses[turn % addresses.len()].parse()?;
        turn += 1;
        let Ok(stream) = TcpStream::connect_timeout(&address, Duration::from_secs(5)) else {
            std::thread::sleep(Duration::from_millis(5));
            continue;
        };
        stream.set_read_timeout(Some(Duration::from_secs(20)))?;
        let mut to = stream.try_clone()?;
        let mut answers = BufReader::new(stream);
        loop {
            number += 1;
            let asked = to.write_all(format!("write {number}\n").as_bytes());
            let answer = asked.ok().and_then(|()| next_line(&mut answers));
            let done = answer.is_some_and(|answer| answer.starts_with("ok "));
            if !done || !std::fs::exists(path)? {
                break;
            }
            writeln!(journal, "{number} {}", begun.elapsed().as_millis())?;
        }
    }
}

fn read(address: &str) -> Result<(), Failure> {
    let mut stream = TcpStream::connect(address)?;
    stream.write_all(b"read\n")?;
    let mut text = String::new();
    stream.read_to_string(&mut text)?;
    print!("{}", text.strip_suffix("end\n").ok_or("it was cut short")?);
    Ok(())
}

fn main() -> std::process::ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let done = match words.first().map(String::as_str) {
        Some("serve") => serve(&words[1..]),
        Some("load") if words.len() == 3 => load(&words[1], &words[2]),
        Some("read") if words.len() == 2 => read(&words[1]),
        _ => Err("karst-lines serve ... | load ADDRESSES JOURNAL | read ADDRESS".into()),
    };
    match done {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("{why}");
            std::process::ExitCode::FAILURE
        }
    }
}
