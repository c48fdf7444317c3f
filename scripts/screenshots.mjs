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

const size = (width, height) =>
  devtools('Emulation.setDeviceMetricsOverride', {
    width,
    height,
    deviceScaleFactor: 1,
    mobile: false,
  });

/** The console's pages: the picture, the address, and what is there once the page is. */
const pages = [
  ['console', '#routes?open=pass.moor.test', '[data-slug=target-speaks-tls]'],
  ['console-traffic', '#traffic', '[data-exchange="/api/none"]'],
  ['console-running', '#running?app=lookout', '[role=log] div:nth-child(10)'],
  ['console-names', '#names?name=mail.moor.test&tab=records', '[data-form=record]'],
  ['console-certificates', '#certificates?tab=served', 'tbody tr:nth-child(8)'],
  ['console-system', '#system?tab=machine', '#plan ~ * li, section li'],
];

try {
  await size(1280, 800);
  await scheme('light');
  await open(link);
  await until("document.querySelectorAll('[data-passed]').length >= 11");
  await until(`document.querySelector('[aria-label="This machine"]')`);
  for (const [name, hash, there] of pages) {
    await open(`${origin}/${hash}`);
    await until(`document.querySelector('${there}')`);
    if (name === 'console-traffic') {
      await run(`document.querySelector('[data-exchange="/api/huts/3"] button').click()`);
    }
    await picture(name);
  }
  // One in dark colours, and one as on a phone.
  await scheme('dark');
  await open(`${origin}/#route/summit.moor.test`);
  await until("document.querySelector('#hops')");
  await picture('console-route');
  await scheme('light');
  await size(390, 844);
  await open(`${origin}/#journal`);
  await until("document.querySelectorAll('[data-revision]').length >= 8");
  await picture('console-journal');
  await size(1280, 800);

  const base = (name) => `https://${name}.moor.test:17443/`;
  await open(base('lookout'));
  await until("document.querySelector('#restart')");
  await picture('page-app-crashed');
  await open(base('map'));
  await until("document.querySelector('#output').childNodes.length >= 4");
  await picture('page-app-starting');
} finally {
  await session('DELETE', '').catch(() => undefined);
  driver.kill();
}
