//! A PostgreSQL cluster of a test's own, for what changes a whole cluster: TLS, a standby that takes over.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use tempfile::TempDir;
use tokio_postgres::NoTls;

/// Stopped and removed when dropped.
pub struct Cluster {
    folder: TempDir,
    /// The small disk on which it lies, if it has one.
    disk: Option<Disk>,
    /// The settings with which it is started.
    settings: Vec<String>,
    pub url: String,
}

/// A small file system in a mount namespace of its own, which a process holds; gone when dropped.
struct Disk(Child);

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Disk {
    /// A disk of this size at a folder. None for users who may not make one here.
    fn at(folder: &Path, size: &str) -> Option<Disk> {
        let mount = "mount -t tmpfs -o mode=755,size=\"$1\" tmpfs \"$0\" && echo mounted && exec sleep infinity";
        let mut holder = Command::new("unshare")
            .args(["--mount", "sh", "-c", mount])
            .arg(folder)
            .arg(size)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let mut answer = String::new();
        let stdout = holder.stdout.take()?;
        let read = BufReader::new(stdout).read_line(&mut answer);
        let disk = Disk(holder);
        (read.is_ok() && answer.trim() == "mounted").then_some(disk)
    }
}

/// A folder that the server's user can enter.
pub fn open_folder() -> TempDir {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o755)).expect("a mode");
    folder
}

/// Makes a file or folder the server's own, with this mode.
pub fn give_to_server(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, PermissionsExt::from_mode(mode)).expect("a mode");
    if nix::unistd::geteuid().is_root() {
        let given = Command::new("chown").arg("postgres").arg(path).status();
        assert!(given.expect("chown runs").success());
    }
}

fn script(verb: &str, folder: &Path, settings: &[String], disk: Option<&Disk>) -> Output {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/cluster");
    let mut command = match disk {
        None => Command::new(path),
        Some(Disk(holder)) => {
            let mut command = Command::new("nsenter");
            command.args(["--mount", "--target", &holder.id().to_string(), path]);
            command
        }
    };
    let asked = command.arg(verb).arg(folder).args(settings).output();
    asked.expect("scripts/cluster runs")
}

/// As [`script`], where it has to succeed.
fn done(verb: &str, folder: &Path, settings: &[String], disk: Option<&Disk>) {
    let output = script(verb, folder, settings, disk);
    assert!(
        output.status.success(),
        "scripts/cluster {verb}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
}

impl Drop for Cluster {
    fn drop(&mut self) {
        done("down", &self.root(), &[], self.disk.as_ref());
    }
}

/// Runs a program of PostgreSQL's as the user that its server runs as.
fn as_server(program: &str, arguments: &[&str]) {
    let folder = std::fs::read_dir("/usr/lib/postgresql")
        .expect("PostgreSQL is installed")
        .filter_map(|version| Some(version.ok()?.path().join("bin").join(program)))
        .filter(|path| path.exists())
        .max()
        .expect("PostgreSQL's programs");
    let mut command = if nix::unistd::geteuid().is_root() {
        let mut command = Command::new("setpriv");
        command.args(["--reuid=postgres", "--regid=postgres", "--init-groups"]);
        command.arg("--inh-caps=-all").arg(&folder);
        command
    } else {
        Command::new(&folder)
    };
    let output = command.args(arguments).current_dir("/").output();
    let output = output.expect("it runs");
    assert!(
        output.status.success(),
        "{program}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
}

impl Cluster {
    /// A fresh cluster with these settings.
    pub fn start(settings: &[(&str, &str)]) -> Cluster {
        Cluster::start_in(open_folder(), None, settings)
    }

    /// A fresh cluster on a disk of this size (`mount`'s notation). None for users who may not make a mount namespace.
    pub fn start_on_disk(size: &str, settings: &[(&str, &str)]) -> Option<Cluster> {
        if !nix::unistd::geteuid().is_root() {
            return None;
        }
        let folder = open_folder();
        let disk = Disk::at(folder.path(), size)?;
        Some(Cluster::start_in(folder, Some(disk), settings))
    }

    fn start_in(folder: TempDir, disk: Option<Disk>, settings: &[(&str, &str)]) -> Cluster {
        let settings: Vec<String> = [("fsync", "off"), ("shared_buffers", "32MB")]
            .iter()
            .chain(settings)
            .map(|(key, value)| format!("{key}={value}"))
            .collect();
        let root = folder.path().join("cluster");
        done("up", &root, &settings, disk.as_ref());
        let mut cluster = Cluster {
            folder,
            disk,
            settings,
            url: String::new(),
        };
        let url = std::fs::read_to_string(cluster.seen(&root.join("url")));
        cluster.url = url.expect("its address").trim().to_owned();
        cluster
    }

    /// A path of this cluster as this process sees it.
    fn seen(&self, path: &Path) -> PathBuf {
        match &self.disk {
            None => path.to_owned(),
            Some(Disk(holder)) => {
                PathBuf::from(format!("/proc/{}/root{}", holder.id(), path.display()))
            }
        }
    }

    /// Fills its disk with a file, to the last byte.
    pub fn fill_disk(&self) {
        let mut filler =
            std::fs::File::create(self.seen(&self.folder.path().join("filler"))).expect("a file");
        for size in [1 << 20, 1 << 12, 1] {
            let zeros = vec![0; size];
            while std::io::Write::write_all(&mut filler, &zeros).is_ok() {}
        }
    }

    /// Frees what [`Self::fill_disk`] filled, and starts the server again if it ended meanwhile.
    pub fn free_disk(&self) {
        let filler = self.seen(&self.folder.path().join("filler"));
        std::fs::remove_file(filler).expect("the file is removed");
        done("up", &self.root(), &self.settings, self.disk.as_ref());
    }

    /// Whether its server runs.
    pub fn is_running(&self) -> bool {
        let asked = script("running", &self.root(), &[], self.disk.as_ref());
        asked.status.success()
    }

    /// A standby of this cluster, which has what it has; commits wait for it from now on.
    pub async fn standby(&self) -> Cluster {
        let folder = open_folder();
        let root = folder.path().join("cluster");
        let data = root.join("data");
        std::fs::create_dir_all(&data).expect("a folder");
        give_to_server(&data, 0o700);
        std::fs::copy(self.root().join("password"), root.join("password")).expect("a copy");
        let data = data.display().to_string();
        as_server("pg_basebackup", &["-d", &self.url, "-D", &data, "-R"]);
        let settings = vec!["fsync=off".to_owned()];
        done("up", &root, &settings, None);
        let url = std::fs::read_to_string(root.join("url")).expect("its address");
        self.run("alter system set synchronous_standby_names = '*'")
            .await;
        self.run("select pg_reload_conf()").await;
        let url = url.trim().to_owned();
        Cluster {
            folder,
            disk: None,
            settings,
            url,
        }
    }

    /// Writes a dump of this cluster's database into another's, which is empty.
    pub fn restore_into(&self, other: &Cluster) {
        let dump = self.folder.path().join("dump");
        std::fs::File::create(&dump).expect("a file");
        give_to_server(&dump, 0o600);
        let dump = dump.display().to_string();
        as_server("pg_dump", &["-Fc", "-f", &dump, &self.url]);
        as_server("pg_restore", &["--exit-on-error", "-d", &other.url, &dump]);
    }

    /// Ends the server as a lost machine would.
    pub fn kill(&self) {
        done("kill", &self.root(), &[], self.disk.as_ref());
    }

    /// Makes a standby the primary.
    pub async fn promote(&self) {
        self.run("select pg_promote()").await;
    }

    /// Runs a statement.
    pub async fn run(&self, statement: &str) {
        let (client, connection) = tokio_postgres::connect(&self.url, NoTls)
            .await
            .expect("the cluster answers");
        let driver = tokio::spawn(connection);
        client.batch_execute(statement).await.expect("it runs");
        driver.abort();
    }

    /// The host and port.
    pub fn host(&self) -> &str {
        let rest = self.url.rsplit_once('@').map_or("", |(_, rest)| rest);
        rest.split('/').next().unwrap_or_default()
    }

    fn root(&self) -> PathBuf {
        self.folder.path().join("cluster")
    }

    /// The first column of what a query finds, texts.
    pub async fn texts(&self, query: &str) -> Vec<String> {
        let (client, connection) = tokio_postgres::connect(&self.url, NoTls)
            .await
            .expect("the cluster answers");
        let driver = tokio::spawn(connection);
        let rows = client.query(query, &[]).await.expect("the query runs");
        driver.abort();
        rows.iter().map(|row| row.get(0)).collect()
    }
}
