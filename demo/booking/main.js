import { greeting } from './greeting.js';

const app = document.getElementById('app');
app.innerHTML = '<h1>Highmoor</h1><p id="greeting"></p><ul id="huts"></ul>';
const show = (text) => {
  document.getElementById('greeting').textContent = text;
};
show(greeting);

// The API runs on another port; behind the proxy it is the same origin.
const { huts } = await (await fetch('/api/huts')).json();
document.getElementById('huts').append(
  ...huts.map(({ name, beds, slug }) => {
    const item = document.createElement('li');
    const link = document.createElement('a');
    link.href = `https://${slug}.hut.moor.test:${location.port}/`;
    link.textContent = name;
    item.append(link, `${beds} beds free`);
    return item;
  }),
);

// Edit greeting.js: the text changes and the page stays.
import.meta.hot?.accept('./greeting.js', (module) => show(module.greeting));
