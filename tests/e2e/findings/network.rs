//! Faults of names and of the network, on a machine without a way to others.

use bentlane_tests::{Namespace, Start, World};

const SCRIPT: &str = r#"
set -eu
private_machine
"$BENTLANE" serve --high-ports --upstream none >"$FOLDER/service.log" 2>&1 &
service=$!
trap 'kill $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test
"$BENTLANE" zone edit moor.test --answers routed-names
"$BENTLANE" record add elsewhere.moor.test CNAME www.example.
"$BENTLANE" record add lost.moor.test CNAME nowhere.moor.test.
for name in elsewhere lost here; do "$BENTLANE" route add $name.moor.test 4310; done
"$BENTLANE" route add far.moor.test http://192.0.2.1:80
for name in elsewhere lost far; do
  step $name
  "$BENTLANE" check $name.moor.test --routes-only || true
done
step here
ip link set lo down
"$BENTLANE" check here.moor.test --routes-only || true
step end
kill $service
wait $service
echo "ended $?"
"#;

#[test]
fn faults_of_names_and_of_the_network_are_distinguished() {
    let world = World::asleep(Start::default());
    Namespace::run(&world, SCRIPT).expect(&[
        ("elsewhere", &["(resolves-elsewhere)"]),
        ("lost", &["(resolver-refuses)"]),
        ("far", &["(target-unreachable)"]),
        ("here", &["(resolver-silent)"]),
        // Without loopback, no datagram wakes the resolver's threads.
        ("end", &["ended 0"]),
    ]);
}
