// The pass: a server that speaks TLS, which the route to it does not say. Broken on purpose.
import { readFileSync } from 'node:fs';
import { createServer } from 'node:https';

const folder = process.argv[2];
const read = (name) => readFileSync(`${folder}/${name}`);
createServer({ cert: read('pass.moor.test.pem'), key: read('pass.moor.test.key') }, (_, response) =>
  response.end('The pass is open.\n'),
).listen(4315, '127.0.0.1');
