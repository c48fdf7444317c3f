//! Making a cluster, giving it its settings, and bringing one of an earlier version to this form.

use std::fs::{self, DirBuilder};
use std::os::unix::fs::{DirBuilderExt, chown};
use std::path::Path;

use tracing::{info, warn};

use super::guard;
use super::programs::{Account, Programs, os, own_name};
use super::{ClusterError, DATABASE, ROLE, SUPERUSER, io_error};

/// What we add to the settings that `initdb` writes, after this line.
const MARK: &str = "# written by bentlane at each start";

/// Small and private: a handful of connections, over a socket in the cluster's own folder.
const SETTINGS: &str = "
listen_addresses = ''
unix_socket_directories = '.'
unix_socket_permissions = 0700
port = 5432
max_connections = 20
shared_buffers = 16MB
max_wal_size = 128MB
min_wal_size = 32MB
";

/// Makes the cluster beside its place and renames it when it is complete.
pub(super) async fn create(programs: &Programs, folder: &Path) -> Result<(), ClusterError> {
    info!(folder = %folder.display(), "making the database, once");
    remove_unfinished(folder);
    // Programs of a start that was killed may still write in its folder.
    let beside = folder.with_added_extension(format!("new-{}", std::process::id()));
    DirBuilder::new()
        .mode(0o700)
        .create(&beside)
        .map_err(io_error("make the database's folder"))?;
    if let Some(Account { uid, gid }) = programs.account() {
        chown(&beside, Some(uid), Some(gid))
            .map_err(io_error("give the database's folder to its account"))?;
    }
    let args = [
        "--username",
        SUPERUSER,
        "--auth=reject",
        "--encoding=UTF8",
        "--locale=C.UTF-8",
        "-D",
    ];
    let args = [&args.map(os)[..], &[beside.as_os_str()]].concat();
    run(programs, "initdb", &args, "").await?;
    configure(programs, &beside).await?;
    make_role(programs, &beside).await?;
    let made = format!("CREATE DATABASE {DATABASE} OWNER {ROLE};\n\n");
    alone(programs, &beside, "template1", &made).await?;
    fs::rename(&beside, folder).map_err(io_error("put the database in its place"))
}

/// Removes what earlier attempts left; what stays is tried again next time.
fn remove_unfinished(folder: &Path) {
    let name = folder.file_name().unwrap_or_default().to_string_lossy();
    let of_us = |entry: &fs::DirEntry| {
        let found = entry.file_name();
        let rest = found.to_str().and_then(|it| it.strip_prefix(&*name));
        rest.is_some_and(|rest| rest.starts_with(".new"))
    };
    let entries = folder.parent().and_then(|above| fs::read_dir(above).ok());
    for entry in entries.into_iter().flatten().flatten().filter(of_us) {
        guard::kill_all(&entry.path());
        if let Err(cause) = fs::remove_dir_all(entry.path()) {
            warn!(folder = %entry.path().display(), %cause, "cannot remove an unfinished database");
        }
    }
}

/// Writes the settings of this version, unless they are there.
pub(super) async fn configure(programs: &Programs, folder: &Path) -> Result<(), ClusterError> {
    let path = folder.join("postgresql.conf");
    let read = |path: &Path| match fs::read_to_string(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        read => read,
    };
    let failed = || io_error("read the settings of the database");
    let now = read(&path).map_err(failed())?;
    let own = now
        .find(MARK)
        // What earlier versions wrote once.
        .or_else(|| now.find("# written by bentlane when the cluster was made"));
    let standard = own.and_then(|at| now.get(..at)).unwrap_or(&now);
    let wanted = format!("{}\n\n{MARK}{SETTINGS}", standard.trim_end());
    if now != wanted {
        programs.write(&path, &wanted).await?;
    }
    // The superuser has no line, so nobody connects as that.
    let lines = [
        (
            "pg_hba.conf",
            format!("local {DATABASE} {ROLE} peer map=bentlane\n"),
        ),
        (
            "pg_ident.conf",
            format!("bentlane {} {ROLE}\n", quoted(&own_name()?)),
        ),
    ];
    for (name, wanted) in lines {
        let path = folder.join(name);
        if read(&path).map_err(failed())? != wanted {
            programs.write(&path, &wanted).await?;
        }
    }
    Ok(())
}

/// Brings a cluster of an earlier version to the form of this one: there the superuser owned the
/// tables, in the database `postgres`, and came in by a password. Each step can be done again, so
/// that one that was cut off is made up for. The server must not run.
pub(super) async fn convert(programs: &Programs, folder: &Path) -> Result<(), ClusterError> {
    info!(folder = %folder.display(), "converting the database of an earlier version");
    make_role(programs, folder).await?;
    let renamed = format!(
        "DO $$ BEGIN
           IF NOT EXISTS (SELECT FROM pg_database WHERE datname = '{DATABASE}') THEN
             ALTER DATABASE postgres RENAME TO {DATABASE};
           END IF;
         END $$;

         ALTER DATABASE {DATABASE} OWNER TO {ROLE};

         ALTER ROLE {SUPERUSER} PASSWORD NULL;

"
    );
    alone(programs, folder, "template1", &renamed).await?;
    let owned = format!(
        "DO $$ DECLARE it record; BEGIN
           FOR it IN SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace
             AND relkind IN ('r', 'p', 'v') LOOP
             EXECUTE format('ALTER TABLE public.%I OWNER TO {ROLE}', it.relname);
           END LOOP;
           FOR it IN SELECT relname FROM pg_class WHERE relnamespace = 'public'::regnamespace
             AND relkind = 'S' LOOP
             EXECUTE format('ALTER SEQUENCE public.%I OWNER TO {ROLE}', it.relname);
           END LOOP;
         END $$;

         GRANT ALL ON SCHEMA public TO {ROLE};

"
    );
    alone(programs, folder, DATABASE, &owned).await?;
    // These files come last: they show that everything before was done.
    configure(programs, folder).await
}

/// Whether the cluster is one of an earlier version, or its conversion was cut off.
pub(super) fn is_of_earlier_version(folder: &Path) -> bool {
    let access = fs::read_to_string(folder.join("pg_hba.conf")).unwrap_or_default();
    !access.contains(" peer map=bentlane")
}

async fn make_role(programs: &Programs, folder: &Path) -> Result<(), ClusterError> {
    let made = format!(
        "DO $$ BEGIN
           IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '{ROLE}') THEN
             CREATE ROLE {ROLE} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION;
           END IF;
         END $$;

"
    );
    alone(programs, folder, "template1", &made).await
}

/// Has a server that takes no connections carry out statements as the superuser, each of which
/// ends with a semicolon and an empty line (postgres(1), "Single-User Mode").
async fn alone(
    programs: &Programs,
    folder: &Path,
    database: &str,
    statements: &str,
) -> Result<(), ClusterError> {
    let before = ["--single", "-j", "-c", "exit_on_error=true", "-D"];
    let args = [&before.map(os)[..], &[folder.as_os_str(), os(database)]].concat();
    run(programs, "postgres", &args, statements).await
}

async fn run(
    programs: &Programs,
    program: &'static str,
    args: &[&std::ffi::OsStr],
    input: &str,
) -> Result<(), ClusterError> {
    let output = programs.output(program, args, input).await?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let fault = |line: &&str| line.contains("ERROR:") || line.contains("FATAL:");
    let last = || said.lines().rev().find(|line| !line.trim().is_empty());
    let line = said.lines().find(fault).or_else(last);
    Err(ClusterError::Program {
        program,
        output: line.unwrap_or("no reason was given").trim().to_owned(),
    })
}

/// A name as one word of an access file.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
