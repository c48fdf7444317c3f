//! Faults of certificates.

use bentlane_tests::{App, World, wait_until};
use rstest::rstest;

use super::{carry_out, check, has, page, worst};

/// A self-signed certificate and key for `name` in the files of `stem`, valid for these seconds from
/// now.
pub(super) fn write_pair(
    world: &World,
    stem: &str,
    name: &str,
    from: i64,
    until: i64,
) -> [String; 2] {
    let mut params = rcgen::CertificateParams::new(vec![name.to_owned()]).unwrap();
    let now = time::OffsetDateTime::now_utc();
    params.not_before = now + time::Duration::seconds(from);
    params.not_after = now + time::Duration::seconds(until);
    let key = rcgen::KeyPair::generate().unwrap();
    let certificate = params.self_signed(&key).unwrap();
    let texts = [("pem", certificate.pem()), ("key", key.serialize_pem())];
    texts.map(|(ending, text)| {
        let path = world.path(&format!("{stem}.{ending}"));
        std::fs::write(&path, text).unwrap();
        path.display().to_string()
    })
}

pub(super) const DAY: i64 = 86_400;

#[test]
fn the_expiry_of_imported_certificates_is_reported() {
    let app = page(0);
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let [certificate, key] = write_pair(&world, "a", "a.moor.test", -60, 60 * DAY);
    world.ok(&["cert", "import", &certificate, &key]);
    assert_eq!(
        check(&world, "a.moor.test")["findings"]
            .as_array()
            .unwrap()
            .len(),
        advice(&world)
    );

    // Files that cannot be used next are reported; the former certificate stays in use.
    for (from, until, slug) in [
        (-DAY, -60, "pair-expired"),
        (DAY, 2 * DAY, "pair-early"),
        (-60, 60 * DAY, "pair-key-mismatch"),
    ] {
        let _ = write_pair(&world, "a", "a.moor.test", from, until);
        if slug == "pair-key-mismatch" {
            let other = write_pair(&world, "other", "a.moor.test", from, until);
            std::fs::copy(&other[1], &key).unwrap();
        }
        let verdict = wait_until(slug, || {
            let verdict = check(&world, "a.moor.test");
            has(&verdict, slug).then_some(verdict)
        });
        let found = worst(&verdict);
        assert_eq!(found["slug"], slug, "{verdict:#}");
        assert_eq!(found["severity"], "warning");
        assert!(
            found["fix"]["text"]
                .as_str()
                .unwrap()
                .contains(&certificate)
        );
        let _ = write_pair(&world, "a", "a.moor.test", -60, 60 * DAY);
        wait_until("the files to be loaded", || {
            (!has(&check(&world, "a.moor.test"), slug)).then_some(())
        });
    }

    // One that ends while it is shown.
    let _ = write_pair(&world, "a", "a.moor.test", -60, 6);
    let verdict = wait_until("the certificate to end", || {
        // While it is replaced, a check may see the one before.
        let verdict = check(&world, "a.moor.test");
        has(&verdict, "pair-expired").then_some(verdict)
    });
    let found = worst(&verdict);
    assert_eq!(found["slug"], "pair-expired", "{verdict:#}");
    assert_eq!(verdict["passed"], false, "{verdict:#}");
    assert_eq!(found["hop"], "handshake");
    carry_out(&world, found["fix"]["command"].as_str().unwrap());
    let verdict = check(&world, "a.moor.test");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
}

/// How many findings a route has on this machine where all is well.
fn advice(world: &World) -> usize {
    let app = page(0);
    world.ok(&["route", "add", "well.moor.test", &app.port()]);
    let verdict = check(world, "well.moor.test");
    let findings = verdict["findings"].as_array().unwrap();
    // What trust stores say concerns our own certificates.
    findings
        .iter()
        .filter(|it| it["slug"] != "root-distrusted")
        .count()
}

#[test]
fn a_pinned_wildcard_certificate_is_one_label_too_short() {
    let app = page(0);
    let world = World::with_routes(&[("*.moor.test", &app.port())]);
    let [certificate, key] = write_pair(&world, "a", "*.moor.test", -60, 60 * DAY);
    world.ok(&["cert", "import", &certificate, &key]);
    world.ok(&["route", "edit", "*.moor.test", "--cert", "*.moor.test"]);
    assert_eq!(check(&world, "one.moor.test")["passed"], true);
    let verdict = check(&world, "one.too.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], "pair-not-covering", "{verdict:#}");
    assert_eq!(found["hop"], "handshake");
    carry_out(&world, found["fix"]["command"].as_str().unwrap());
    assert_eq!(check(&world, "one.too.moor.test")["passed"], true);
}

#[rstest]
#[case("target-expired", "vm.example", -DAY, -60, &["--target-name", "vm.example"])]
#[case("target-other-name", "vm.example", -60, DAY, &["--target-name", "other.example"])]
#[case("target-untrusted", "vm.example", -60, DAY, &["--target-name", "vm.example"])]
fn faults_of_a_targets_certificate_are_distinguished(
    #[case] slug: &str,
    #[case] name: &str,
    #[case] from: i64,
    #[case] until: i64,
    #[case] settings: &[&str],
) {
    let world = World::with_routes(&[]);
    let [certificate, key] = write_pair(&world, "vm", name, from, until);
    let app = App::tls(certificate.as_ref(), key.as_ref());
    let target = format!("https://127.0.0.1:{}", app.port());
    world.ok(&[&["route", "add", "a.moor.test", &target][..], settings].concat());
    let verdict = check(&world, "a.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], slug, "{verdict:#}");
    assert_eq!(found["hop"], "connect");
    let command = found["fix"]["command"].as_str().unwrap();
    carry_out(&world, &command.replace("FILE", &certificate));
    let verdict = check(&world, "a.moor.test");
    assert!(!has(&verdict, slug), "{verdict:#}");
    // By the right name it still vouches for itself, which the next fix settles.
    if slug == "target-other-name" {
        assert_eq!(worst(&verdict)["slug"], "target-untrusted", "{verdict:#}");
    } else {
        assert_eq!(verdict["passed"], true, "{verdict:#}");
    }
}

#[test]
fn a_certificate_without_its_chain_is_refused() {
    let app = page(0);
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let made = |name: &str| rcgen::CertificateParams::new(vec![name.to_owned()]).unwrap();
    let authority = rcgen::KeyPair::generate().unwrap();
    let issuer = rcgen::Issuer::new(made("another authority"), authority);
    let key = rcgen::KeyPair::generate().unwrap();
    let certificate = made("a.moor.test").signed_by(&key, &issuer).unwrap();
    let [certificate_file, key_file] =
        ["a.pem", "a.key"].map(|name| world.path(name).display().to_string());
    std::fs::write(&certificate_file, certificate.pem()).unwrap();
    std::fs::write(&key_file, key.serialize_pem()).unwrap();
    world.ok(&["cert", "import", &certificate_file, &key_file]);
    let verdict = check(&world, "a.moor.test");
    assert_eq!(
        worst(&verdict)["slug"],
        "certificate-refused",
        "{verdict:#}"
    );
}
