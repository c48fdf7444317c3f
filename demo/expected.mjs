// Reads the outcome of `bentlane check --format json` and says whether it is the expected one.
import { readFileSync } from 'node:fs';

const expected = {
  '*.hut.moor.test': null,
  'booking.moor.test': null,
  'booking.moor.test/api': null,
  'docs.moor.test': null,
  'lookout.moor.test': 'app-crashed',
  'parking.moor.test': 'target-refuses',
  'pass.moor.test': 'target-speaks-tls',
  'summit.moor.test': 'route-loop',
  'radio.moor.test': null,
  'weather.moor.test': null,
};

const { machine, verdicts } = JSON.parse(readFileSync(0, 'utf8'));
// Hints, such as that lookups are not attached, are as they may be.
const worst = (findings) => findings.find(({ severity }) => severity !== 'hint');
const found = Object.fromEntries(
  verdicts.map(({ address, findings }) => [address, worst(findings)?.slug ?? null]),
);
// Tiles come from a container, where an engine runs.
if ('tiles.moor.test' in found) expected['tiles.moor.test'] = null;
const addresses = new Set([...Object.keys(expected), ...Object.keys(found)]);
const wrong = [...addresses].filter((address) => expected[address] !== found[address]);
for (const address of wrong) {
  console.error(`${address}: expected ${expected[address]}, found ${found[address]}`);
}
// The demo changes nothing on the machine, so names are not found: what is whole is ready, not proved.
const lookups = machine.items.find(({ part, subject }) => part === 'lookups' && subject === 'moor.test');
if (machine.passed || lookups?.state !== 'failed') {
  wrong.push('this machine');
  console.error('this machine: its lookups of moor.test are expected to fail, and do not');
}
console.error(wrong.length === 0 ? 'the demo is as it should be' : 'the demo is not as it should be');
process.exit(wrong.length === 0 ? 0 : 1);
