//! A MariaDB server of our own on loopback, with its own data folder: never the machine's service.

use std::net::TcpListener;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use uuid::Uuid;

use crate::StoreError;

const USER: &str = "beryl";
const NAME: &str = "beryl";
const START_WAIT: Duration = Duration::from_secs(60);
/// How often it is looked at whether the server is still there.
const LOOK_EVERY: Duration = Duration::from_millis(250);
/// The pause before a server that ended is started again; it grows with every start that fails.
const PAUSE: Duration = Duration::from_millis(200);
/// The longest pause.
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// The longest path that a socket can have (`sockaddr_un`).
const LONGEST_SOCKET: usize = 100;

/// A running server; where it ends by itself it is started again on the same port. Dropping it ends it in order.
#[derive(Debug)]
pub struct PrivateServer {
    child: Arc<Mutex<Child>>,
    place: Place,
    ending: Arc<AtomicBool>,
    watcher: Option<std::thread::JoinHandle<()>>,
}

/// Where a server lives, and how it is reached.
#[derive(Debug, Clone)]
struct Place {
    folder: PathBuf,
    data: PathBuf,
    port: u16,
    password: String,
}

fn setup(what: &str, error: impl std::fmt::Display) -> StoreError {
    StoreError::Setup(format!("{what}: {error}"))
}

fn free_port() -> Result<u16, StoreError> {
    let listener = TcpListener::bind("127.0.0.1:0").map_err(|error| setup("no free port was found", error))?;
    listener.local_addr().map(|address| address.port()).map_err(|error| setup("no free port was found", error))
}

/// A program of MariaDB, which Debian keeps in places that are not on everybody's path.
fn program(name: &str) -> Result<PathBuf, StoreError> {
    let folders = ["/usr/sbin", "/usr/bin", "/usr/local/bin", "/usr/local/sbin"];
    let found = folders.iter().map(|folder| Path::new(folder).join(name)).find(|path| path.is_file());
    found.ok_or_else(|| StoreError::Setup(format!("the program {name} is missing: install the package mariadb-server")))
}

impl PrivateServer {
    /// Starts a server on `folder`, which is set up first where it is new. Nobody but the user who starts it can look
    /// into the folder, and nobody without the password that is kept there gets into the server.
    ///
    /// # Errors
    /// [`StoreError::Setup`] where MariaDB is not installed or does not come up; its log in the
    /// folder tells more.
    pub fn start(folder: &Path) -> Result<Self, StoreError> {
        let not_made = |error| setup("the folder of the database could not be made", error);
        std::fs::create_dir_all(folder).map_err(not_made)?;
        let folder = folder.canonicalize().map_err(|error| setup("the folder of the database could not be found", error))?;
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700)).map_err(not_made)?;
        let data = folder.join("data");
        // Servers that share the machine's folder for temporary files take each other's tables away. The third one is
        // the only place where statements could read and write files.
        for inner in ["tmp", "files"] {
            std::fs::create_dir_all(folder.join(inner)).map_err(not_made)?;
        }
        if !data.join("mysql").is_dir() {
            install(&folder, &data)?;
        }
        end_orphan(&folder, &data)?;
        let password = password(&folder)?;
        // Another process may take the port between the search and the start.
        let mut last = StoreError::Setup("no start was tried".to_owned());
        for _ in 0..3 {
            let place = Place { folder: folder.clone(), data: data.clone(), port: free_port()?, password: password.clone() };
            match place.start() {
                Ok(child) => return Ok(Self::watched(child, place)),
                Err(error) => last = error,
            }
        }
        Err(last)
    }

    fn watched(child: Child, place: Place) -> Self {
        let (child, ending) = (Arc::new(Mutex::new(child)), Arc::<AtomicBool>::default());
        let watching = (Arc::clone(&child), Arc::clone(&ending), place.clone());
        let watcher = std::thread::Builder::new().name("database".to_owned()).spawn(move || {
            let (child, ending, place) = watching;
            watch(&child, &ending, &place);
        });
        // Without its watcher the server works as well, until it ends.
        Self { child, place, ending, watcher: watcher.ok() }
    }

    /// Where to connect.
    #[must_use]
    pub fn url(&self) -> String {
        format!("mysql://{USER}:{}@127.0.0.1:{}/{NAME}", self.place.password, self.place.port)
    }

    /// The id of its process, which is another one after it was started again.
    #[must_use]
    pub fn process_id(&self) -> u32 {
        locked(&self.child).id()
    }
}

fn locked(child: &Mutex<Child>) -> MutexGuard<'_, Child> {
    child.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Starts the server again whenever it has ended, until it is to end.
fn watch(child: &Mutex<Child>, ending: &AtomicBool, place: &Place) {
    let mut pause = PAUSE;
    while !ending.load(Ordering::Relaxed) {
        std::thread::sleep(LOOK_EVERY);
        let mut child = locked(child);
        if ending.load(Ordering::Relaxed) || !matches!(child.try_wait(), Ok(Some(_))) {
            continue;
        }
        std::thread::sleep(pause);
        match place.start() {
            Ok(again) => (*child, pause) = (again, PAUSE),
            Err(_) => pause = (pause * 2).min(LONGEST_PAUSE),
        }
    }
}

/// The password of the server, made at the first start.
fn password(folder: &Path) -> Result<String, StoreError> {
    let file = folder.join("password");
    let failed = |error: std::io::Error| setup("the password of the database could not be kept", error);
    match std::fs::read_to_string(&file) {
        Ok(password) if !password.trim().is_empty() => return Ok(password.trim().to_owned()),
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
        Ok(_) | Err(_) => {}
    }
    let password = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let mut options = std::fs::OpenOptions::new();
    let mut opened = options.write(true).create(true).truncate(true).mode(0o600).open(&file).map_err(failed)?;
    std::io::Write::write_all(&mut opened, password.as_bytes()).map_err(failed)?;
    Ok(password)
}

impl Place {
    /// Starts the server and waits until it can be reached.
    fn start(&self) -> Result<Child, StoreError> {
        let Self { folder, data, port, password } = self;
        let own = folder.join("mariadb.sock");
        let socket = if own.as_os_str().len() <= LONGEST_SOCKET {
            own
        } else {
            std::env::temp_dir().join(format!("beryl-db-{port}.sock"))
        };
        // Versions before had a password that everybody knew, and rights on everything.
        let statements = format!(
            "CREATE DATABASE IF NOT EXISTS {NAME} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n\
             CREATE USER IF NOT EXISTS '{USER}'@'127.0.0.1' IDENTIFIED BY '{password}';\n\
             ALTER USER '{USER}'@'127.0.0.1' IDENTIFIED BY '{password}';\n\
             REVOKE ALL PRIVILEGES, GRANT OPTION FROM '{USER}'@'127.0.0.1';\n\
             GRANT ALL ON {NAME}.* TO '{USER}'@'127.0.0.1';\n"
        );
        let init = folder.join("init.sql");
        let mut options = std::fs::OpenOptions::new();
        let written = options.write(true).create(true).truncate(true).mode(0o600).open(&init);
        let written = written.and_then(|mut file| std::io::Write::write_all(&mut file, statements.as_bytes()));
        written.map_err(|error| setup("the database could not be prepared", error))?;
        let log = std::fs::OpenOptions::new().create(true).append(true).open(folder.join("mariadb.log"));
        let log = log.map_err(|error| setup("the log of the database could not be opened", error))?;
        let mut command = Command::new(program("mariadbd")?);
        command
            .arg("--no-defaults")
            .arg(format!("--datadir={}", data.display()))
            .arg(format!("--tmpdir={}", folder.join("tmp").display()))
            .arg(format!("--secure-file-priv={}", folder.join("files").display()))
            .arg(format!("--socket={}", socket.display()))
            .arg(format!("--init-file={}", init.display()))
            .arg(format!("--pid-file={}", folder.join("mariadb.pid").display()))
            .arg(format!("--port={port}"))
            .args(["--bind-address=127.0.0.1", "--skip-name-resolve", "--innodb-buffer-pool-size=64M", "--max-connections=60"])
            // A sheet looks thousands of runs up by their keys.
            .arg("--innodb-adaptive-hash-index=ON")
            .args(["--performance-schema=OFF", "--innodb-flush-log-at-trx-commit=1", "--character-set-server=utf8mb4"]);
        if nix::unistd::Uid::effective().is_root() {
            command.arg("--user=root");
        }
        // A process group of its own: Ctrl-C in the terminal reaches us, and we end it in order.
        std::os::unix::process::CommandExt::process_group(&mut command, 0);
        let mut child = command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::from(log))
            .spawn()
            .map_err(|error| setup("MariaDB could not be started", error))?;
        let began = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", *port)).is_err() {
            if let Ok(Some(status)) = child.try_wait() {
                return Err(setup("MariaDB ended while it started; its log tells why", status));
            }
            if began.elapsed() > START_WAIT {
                // It may have ended by itself in the meantime.
                drop(child.kill());
                drop(child.wait());
                return Err(setup("MariaDB did not come up", format!("waited {} s", START_WAIT.as_secs())));
            }
            std::thread::sleep(Duration::from_millis(30));
        }
        Ok(child)
    }
}

/// A server that was left on our data when its application was killed holds the files: it is ended
/// in order first.
fn end_orphan(folder: &Path, data: &Path) -> Result<(), StoreError> {
    let id = std::fs::read_to_string(folder.join("mariadb.pid")).ok().and_then(|text| text.trim().parse::<i32>().ok());
    let Some(id) = id else { return Ok(()) };
    let is_ours = || {
        let command = std::fs::read(format!("/proc/{id}/cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&command).contains(&format!("--datadir={}", data.display()))
    };
    let began = Instant::now();
    if is_ours() {
        let _gone_already = kill(Pid::from_raw(id), Signal::SIGTERM);
    }
    while is_ours() {
        if began.elapsed() > START_WAIT {
            return Err(setup("an earlier MariaDB still holds the data", format!("process {id}")));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}

fn install(folder: &Path, data: &Path) -> Result<(), StoreError> {
    let mut command = Command::new(program("mariadb-install-db")?);
    command
        .arg("--no-defaults")
        .arg(format!("--datadir={}", data.display()))
        .arg(format!("--tmpdir={}", folder.join("tmp").display()))
        .args(["--auth-root-authentication-method=socket", "--skip-test-db"]);
    if nix::unistd::Uid::effective().is_root() {
        command.arg("--user=root");
    }
    let output = command.output().map_err(|error| setup("the database could not be set up", error))?;
    if output.status.success() {
        return Ok(());
    }
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    Err(setup("the database could not be set up", format!("{words} (in {})", folder.display())))
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        self.ending.store(true, Ordering::Relaxed);
        {
            let mut child = locked(&self.child);
            if let Ok(id) = i32::try_from(child.id()) {
                // Gone already is as good.
                let _gone_already = kill(Pid::from_raw(id), Signal::SIGTERM);
            }
            drop(child.wait());
        }
        if let Some(watcher) = self.watcher.take() {
            // A watcher that panicked has nothing more to watch.
            drop(watcher.join());
        }
    }
}
