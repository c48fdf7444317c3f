// Reads the outcome of `bentlane check --format json` and says whether it is the expected one.
import { readFileSync } from 'node:fs';

const expected = {
  '*.hut.moor.test': null,
  'booking.moor.test': null,
  'booking.moor.test/api': null,
  'docs.moor.test': null,
  'parking.moor.test': 'target-refuses',
  'pass.moor.test': 'target-speaks-tls',
  'summit.moor.test': 'route-loop',
  'radio.moor.test': null,
  'weather.moor.test': null,
};

const { verdicts } = JSON.parse(readFileSync(0, 'utf8'));
// Hints about this machine, such as that its lookups are not attached, are as they may be.
const worst = (findings) => findings.find(({ severity }) => severity !== 'hint');
const found = Object.fromEntries(
  verdicts.map(({ address, findings }) => [address, worst(findings)?.slug ?? null]),
);
const addresses = new Set([...Object.keys(expected), ...Object.keys(found)]);
const wrong = [...addresses].filter((address) => expected[address] !== found[address]);
for (const address of wrong) {
  console.error(`${address}: expected ${expected[address]}, found ${found[address]}`);
}
console.error(wrong.length === 0 ? 'the demo is as it should be' : 'the demo is not as it should be');
process.exit(wrong.length === 0 ? 0 : 1);
