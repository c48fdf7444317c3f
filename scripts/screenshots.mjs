// Takes the pictures of pages with headless Chromium over WebDriver.
// Usage: node screenshots.mjs FOLDER SIGN-IN-LINK
import { spawn } from 'node:child_process';
import { writeFile } from 'node:fs/promises';
import { createInterface } from 'node:readline';

const [folder, link] = process.argv.slice(2);
const { origin } = new URL(link);
const driver = spawn('chromedriver', ['--port=0'], { stdio: ['ignore', 'pipe', 'inherit'] });
const port = await new Promise((found) => {
  createInterface(driver.stdout).on('line', (line) => {
    const match = /started successfully on port (\d+)/.exec(line);
    if (match) found(match[1]);
  });
});

async function call(method, path, body) {
  const response = await fetch(`http://127.0.0.1:${port}${path}`, {
    method,
    body: body && JSON.stringify(body),
  });
  const { value } = await response.json();
  if (!response.ok) throw new Error(`${method} ${path}: ${value.message}`);
  return value;
}

const args = [
  '--headless=new',
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--disable-dev-shm-usage',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
  '--window-size=1280,800',
  '--hide-scrollbars',
  '--host-resolver-rules=MAP *.moor.test 127.0.0.1',
];
const options = { args, binary: '/usr/bin/chromium' };
const capabilities = { alwaysMatch: { 'goog:chromeOptions': options } };
const { sessionId } = await call('POST', '/session', { capabilities });
const session = (method, path, body) => call(method, `/session/${sessionId}${path}`, body);
const devtools = (cmd, params) => session('POST', '/goog/cdp/execute', { cmd, params });
const run = (script) => session('POST', '/execute/sync', { script, args: [] });

const open = (url) => session('POST', '/url', { url });
const scheme = (value) =>
  devtools('Emulation.setEmulatedMedia', {
    features: [{ name: 'prefers-color-scheme', value }],
  });

async function until(script) {
  for (let attempt = 0; attempt < 150; attempt += 1) {
    if (await run(`return Boolean(${script})`)) return;
    await new Promise((later) => setTimeout(later, 100));
  }
  throw new Error(`gave up waiting for ${script}`);
}

async function picture(name) {
  await run('return document.fonts.ready.then(() => true)');
  await new Promise((later) => setTimeout(later, 300));
  const data = await session('GET', '/screenshot');
  await writeFile(`${folder}/${name}.png`, Buffer.from(data, 'base64'));
}

try {
  await devtools('Emulation.setDeviceMetricsOverride', {
    width: 1280,
    height: 800,
    deviceScaleFactor: 1,
    mobile: false,
  });
  await scheme('light');
  await open(link);
  await until("document.querySelectorAll('[data-passed]').length >= 9");
  await until(`document.querySelector('[aria-label="This machine"]')`);
  await picture('console');
  await scheme('dark');
  await picture('console-dark');
  await scheme('light');
  await open(`${origin}/#route/booking.moor.test`);
  await until("document.querySelectorAll('main tbody tr').length >= 6");
  await picture('console-route');
  await open(`${origin}/#names`);
  await until("document.querySelectorAll('main tbody').length >= 3");
  await picture('console-names');
  await open(`${origin}/#certificates`);
  await until("document.querySelectorAll('main tbody').length >= 2");
  await picture('console-certificates');
  await open(`${origin}/#traffic`);
  await until("document.querySelectorAll('[data-exchange]').length >= 8");
  await until("document.querySelectorAll('main tbody').length >= 2");
  await picture('console-traffic');

  const base = (name) => `https://${name}.moor.test:17443/`;
  await open(base('parking'));
  await until("document.querySelector('h1')");
  await picture('page-target-down');
  await open(base('tiles'));
  await until("document.querySelector('h1')");
  await picture('page-no-route');
} finally {
  await session('DELETE', '').catch(() => undefined);
  driver.kill();
}
