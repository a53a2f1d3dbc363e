//! Tables on a server, against a real one; see the formats' tests of it.

use super::scene::{Scene, snapshot};

/// The server's address, if there is one.
// A test that is skipped should say so.
#[allow(clippy::print_stderr)]
fn server() -> Option<String> {
    let server = std::env::var("GATHER_KEYS_TEST_SERVER").ok();
    if server.is_none() {
        eprintln!("skipped: set GATHER_KEYS_TEST_SERVER to what `.ci/server start DIR` prints");
    }
    server
}

/// A table goes to the server and comes back; its password goes nowhere.
#[test]
fn a_server_has_tables() {
    let Some(server) = server() else { return };
    let (user, host) = server.rsplit_once('@').unwrap();
    let password = user.rsplit_once(':').unwrap().1;
    let scene = Scene::new();
    let told = |text: &str| {
        assert!(!text.contains(password), "{text}");
        text.replace(host, "HOST/co-op")
    };
    // Where a line is broken depends on the length of the address.
    let flat = |text: &str| {
        told(&text.split_whitespace().collect::<Vec<_>>().join(" "))
            .replace(" error: ", "\nerror: ")
            + "\n"
    };
    let table = |name: &str| format!("{server}#{name}");
    let (hives, out) = (table("cli_hives"), table("cli_out"));
    let copy = "enrich hives.csv --from harvest.csv --on 'Tag = Hive' --take '@count'";
    let ran = scene.run(&format!("{copy} -q --overwrite -o {hives}")).ended(0);
    assert_eq!((&ran.out[..], &ran.err[..]), ("", ""));
    let call = format!(
        "enrich harvest.csv --from {hives} --on 'Apiary = Site code, Hive = Tag' --take Keeper"
    );
    let ran =
        scene.run(&format!("{call} --save-plan hives.toml --receipt r.json -o a.csv")).ended(0);
    let mut text = flat(&ran.err);
    text += &scene.read("a.csv");
    let plan = told(&scene.read("hives.toml"));
    text += &plan;
    assert!(told(&scene.read("r.json")).contains("#cli_hives"));
    // The plan has no password: it comes from where such things are kept.
    let lacks = scene.run("enrich hives.toml -o b.csv").ended(2);
    text += &flat(&lacks.err);
    let run = |arguments: &str| {
        let mut program = scene.program();
        program.args(super::scene::words(arguments)).env("PGPASSWORD", password);
        super::scene::Ran::from(program.output().unwrap())
    };
    run("enrich hives.toml -o b.csv --receipt s.json").ended(0);
    assert_eq!(scene.read("a.csv"), scene.read("b.csv"));
    let proposed = scene.run(&format!("suggest harvest.csv {hives}")).ended(0).out;
    assert!(told(&proposed).contains("--from 'postgres://"), "{proposed}");
    let other = scene.run(&format!("enrich hives.toml --from {server}#other --on Hive")).ended(2);
    assert!(told(&other.err).contains("#other"), "{}", other.err);
    // Into the server, seen only when it may be.
    text += &flat(&scene.run(&format!("{call} --overwrite -o {out}")).ended(0).err);
    text += &flat(&scene.run(&format!("{call} -o {out}")).ended(2).err);
    text += &flat(&scene.run(&format!("{call} -o {hives} --overwrite")).ended(2).err);
    text += &flat(&scene.run(&format!("{call} --receipt t.json -o {out}")).ended(2).err);
    let gone = table("cli_gone");
    scene.run(&format!("{call} --require 'unmatched = 0' -o {gone}")).ended(1);
    let none = flat(&scene.run(&format!("survey {gone}")).ended(2).err);
    assert!(none.contains("has no table `cli_gone`; it has `"), "{none}");
    let back = format!("enrich {out} --from harvest.csv --on Batch --take 'Note as Again' -q");
    text += &scene.run(&back).ended(0).out;
    snapshot("servers", &text);
}

/// A server that is not trusted is not talked to, unless it is said that it may be.
#[test]
fn connections_are_encrypted() {
    let (Some(server), Ok(certificate)) = (server(), std::env::var("GATHER_KEYS_TEST_CERTIFICATE"))
    else {
        return;
    };
    let scene = Scene::new();
    let table = format!("{}#cli_encrypted", server.replace("disable", "require"));
    let copy = format!(
        "enrich hives.csv --from harvest.csv --on 'Tag = Hive' --take '@count' -q -o {table}"
    );
    let refused = scene.run(&copy).ended(2).err;
    assert!(refused.contains("name its\n       file in SSL_CERT_FILE"), "{refused}");
    let mut program = scene.program();
    program.args(super::scene::words(&copy)).arg("--overwrite").env("SSL_CERT_FILE", certificate);
    let ran = super::scene::Ran::from(program.output().unwrap()).ended(0);
    assert_eq!(ran.err, "");
}
