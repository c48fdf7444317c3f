//! Apps on the frameworks and servers of several languages, side by side: a deep check finds nothing
//! above a hint, and clients get what they came for.

use std::fs;
use std::net::TcpStream;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Command;

use bentlane_tests::{Background, World, reserve_port, run, wait_until};
use serde_json::Value;

use crate::servers::script;

const APPS: [&str; 17] = [
    "fastify", "koa", "hapi", "webpack", "esbuild", "graphql", "flask", "fastapi", "aiohttp",
    "tornado", "bottle", "mkdocs", "php", "ruby", "perl", "busybox", "redis",
];

/// The command that serves `name` on `port`, with the files in `folder` where it needs any.
fn command(name: &str, port: u16, folder: &Path) -> Command {
    let port = port.to_string();
    let here = folder.display().to_string();
    let served = |program: &str, args: &[&str]| {
        fs::create_dir_all(folder).unwrap();
        fs::write(folder.join("index.html"), format!("<title>{name}</title>")).unwrap();
        let mut command = Command::new(program);
        command.current_dir(folder).args(args);
        command
    };
    let local = format!("127.0.0.1:{port}");
    match name {
        "fastify" | "koa" | "hapi" | "webpack" | "esbuild" | "graphql" => {
            script("frameworks.js", &[name, &port, &here])
        }
        "php" => {
            let command = served("php", &["-S", &local]);
            fs::remove_file(folder.join("index.html")).unwrap();
            fs::write(folder.join("index.php"), PHP).unwrap();
            command
        }
        "ruby" => served(
            "ruby",
            &["-run", "-e", "httpd", ".", "-b", "127.0.0.1", "-p", &port],
        ),
        "perl" => {
            let command = served(
                "plackup",
                &["--host", "127.0.0.1", "--port", &port, "app.psgi"],
            );
            fs::write(folder.join("app.psgi"), PERL).unwrap();
            command
        }
        "busybox" => served("busybox", &["httpd", "-f", "-p", &local]),
        "redis" => {
            // The package of its tools has the server, too, which knows its part by its name.
            let server = folder.with_extension("server").join("redis-server");
            fs::create_dir_all(server.parent().unwrap()).unwrap();
            symlink("/usr/bin/redis-check-rdb", &server).unwrap();
            let args = ["--port", &port, "--bind", "127.0.0.1", "--save", ""];
            served(&server.display().to_string(), &args)
        }
        _ => script("frameworks.py", &[name, &port, &here]),
    }
}

/// Signs people in, with the session of the language.
const PHP: &str = "<?php session_start();
if ($_SERVER['REQUEST_METHOD'] === 'POST') { $_SESSION['user'] = $_POST['user']; header('Location: /'); exit; }
if (isset($_SESSION['user'])) { echo 'hello ', htmlspecialchars($_SESSION['user']); exit; }
if ($_SERVER['REQUEST_URI'] === '/') { header('Location: /sign-in'); exit; }
echo '<title>php</title><form method=post><input name=user></form>';
";

const PERL: &str = "sub {
    return [302, [Location => '/'], []] if $_[0]{PATH_INFO} eq '/old';
    [200, ['Content-Type' => 'text/html'], ['<title>Huts</title>by perl']];
}";

#[test]
fn apps_of_many_frameworks_have_no_findings() {
    let world = World::with_routes(&[]);
    let mut servers: Vec<Background> = Vec::new();
    let mut ports = Vec::new();
    for name in APPS {
        let port = reserve_port();
        let mut command = command(name, port, &world.path(name));
        servers.push(Background::start(
            &mut command,
            world.path(&format!("{name}.log")),
        ));
        ports.push(port);
        let address = match name {
            "redis" => "redis.moor.test:6379".to_owned(),
            _ => format!("{name}.moor.test"),
        };
        // It serves no host but its own.
        let settings: &[&str] = if name == "esbuild" {
            &["--host", "target"]
        } else {
            &[]
        };
        world.ok(&[&["route", "add", &address, &port.to_string()], settings].concat());
    }
    for (name, port) in APPS.iter().zip(&ports) {
        wait_until(&format!("{name} to listen"), || {
            TcpStream::connect(("127.0.0.1", *port)).ok()
        });
    }
    have_no_findings(&world);
    serve_their_clients(&world);
}

/// Checks every route, however deep it goes.
fn have_no_findings(world: &World) {
    let checked = world.run(&["check", "--routes-only", "--deep", "--format", "json"]);
    for verdict in checked.json()["verdicts"].as_array().unwrap() {
        let findings = verdict["findings"].as_array().unwrap().iter();
        let above: Vec<&Value> = findings.filter(|it| it["severity"] != "hint").collect();
        assert!(above.is_empty(), "{verdict:#}");
        assert_eq!(verdict["passed"], true, "{verdict:#}");
    }
    assert_eq!(checked.code, 0);
}

/// Signs in, uploads, queries and follows redirects.
fn serve_their_clients(world: &World) {
    let upload = world.path("plan").display().to_string();
    fs::write(&upload, vec![b'a'; 300_000]).unwrap();
    let plan = format!("plan=@{upload}");
    let query = r#"{"query":"{ hut }"}"#;
    let json = "content-type: application/json";
    for (name, path, args, part) in [
        (
            "fastify",
            "/sign-in",
            &["-L", "-d", "user=rowan"][..],
            "signed in at https://fastify",
        ),
        ("koa", "/old", &["-L", "--compressed"], "<p>koa</p>"),
        ("webpack", "/main.js", &[], "document.title"),
        ("esbuild", "/main.js", &[], "EventSource"),
        (
            "graphql",
            "/graphql",
            &["-H", json, "-d", query],
            "Ravenstone",
        ),
        (
            "flask",
            "/",
            &["-F", &plan],
            "300000 bytes, see https://flask.moor.test:",
        ),
        ("fastapi", "/openapi.json", &[], "\"fastapi\""),
        ("aiohttp", "/", &[], "<p>49</p>"),
        ("tornado", "/", &["-L"], "_xsrf"),
        ("bottle", "/", &[], "Ravenstone"),
        ("mkdocs", "/", &[], "Huts"),
        (
            "php",
            "/sign-in",
            &["-L", "-d", "user=rowan"],
            "hello rowan",
        ),
        ("ruby", "/", &["-r", "1-5"], "title"),
        ("perl", "/old", &["-L"], "by perl"),
        ("busybox", "/", &[], "busybox"),
    ] {
        let url = format!(
            "https://{name}.moor.test:{}{path}",
            world.address("https").port()
        );
        // Keeps the cookies of this call.
        let said = world.curl(&[&["-b", "", &url], args].concat()).ok();
        assert!(said.contains(part), "{name}: {said}");
    }
    let shown = world.json(&["route", "show", "redis.moor.test:6379"]);
    let own = shown["resolves_to"][0].as_str().unwrap();
    assert_eq!(run("redis-cli", &["-h", own, "ping"]).ok(), "PONG\n");
}
