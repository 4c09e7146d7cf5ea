// Elements of a page. Texts are only ever set as text: nothing that comes from data is read as markup.

// el('button', {class: 'tool', title: '...', onclick: f}, 'Text', child ...): a property that begins with "on" is a
// listener, one that is false or null is left out, `true` stands without a value.
export function el(name, properties = {}, ...children) {
  const svg = ['svg', 'g', 'path', 'line', 'text', 'rect', 'circle', 'polyline', 'polygon', 'title'].includes(name);
  const made = svg && name !== 'title' ? document.createElementNS('http://www.w3.org/2000/svg', name)
    : document.createElement(name);
  for (const [key, value] of Object.entries(properties)) {
    if (value === false || value === null || value === undefined) continue;
    if (key.startsWith('on')) made.addEventListener(key.slice(2), value);
    else if (key === 'value') made.value = value;
    else made.setAttribute(key, value === true ? '' : String(value));
  }
  made.append(...children.filter((c) => c !== null && c !== undefined && c !== false));
  return made;
}

export const byId = (id) => document.getElementById(id);

// One sentence instead of the page, or (once there is one) in its corner for a while.
export function say(text, tone = '') {
  let p = byId('saying');
  if (!p) {
    p = el('p', {id: 'saying', role: 'status'});
    document.body.append(p);
  }
  p.className = tone ? `saying ${tone}` : 'saying';
  p.textContent = text;
  p.hidden = text === '';
}
export function hush() {
  const p = byId('saying');
  if (p) p.hidden = true;
}

export function factsOf(id) {
  const element = byId(id);
  if (!element) throw new Error(`there is no part '${id}'`);
  return JSON.parse(element.textContent);
}
export function textOf(id) {
  const element = byId(id);
  if (!element) throw new Error(`there is no part '${id}'`);
  return element.textContent;
}

// A file for the person at the screen.
export function save(name, content, type) {
  const blob = content instanceof Blob ? content : new Blob([content], {type});
  const address = URL.createObjectURL(blob);
  const link = el('a', {href: address, download: name});
  document.body.append(link);
  link.click();
  link.remove();
  setTimeout(() => URL.revokeObjectURL(address), 10000);
}

export async function copy(text) {
  try {
    await navigator.clipboard.writeText(text);
  } catch {
    // Files have no clipboard of their own in every browser: by way of a field.
    const field = el('textarea', {class: 'away'});
    field.value = text;
    document.body.append(field);
    field.select();
    document.execCommand('copy');
    field.remove();
  }
  say('Copied.', 'brief');
  setTimeout(hush, 1500);
}

// A name for a file out of a title.
export function fileName(title, ending) {
  const plain = title.toLowerCase().normalize('NFKD').replace(/[^a-z0-9]+/g, '-').replace(/^-+|-+$/g, '').slice(0, 60);
  return `${plain || 'katoptra'}${ending}`;
}

// Runs `start` when the page is there whole; what goes wrong becomes a sentence.
export function whenWhole(start) {
  const run = async () => {
    try {
      if (!byId('whole')) {
        say('This page is not whole: its end is missing, as after a copy or a download that broke off. Fetch or write it again.', 'bad');
        return;
      }
      if (typeof DecompressionStream === 'undefined') {
        say('This browser is too old for this page: it cannot unpack its data. Any current one can.', 'bad');
        return;
      }
      await start();
    } catch (error) {
      say(`This page cannot be shown: ${error.message}. Write it again, and if that does not help, report it.`, 'bad');
      console.error(error);
    }
  };
  if (document.readyState === 'loading') document.addEventListener('DOMContentLoaded', run);
  else run();
}

// Light or dark: as the system says, or as was chosen here.
export function themeButton() {
  const root = document.documentElement;
  const dark = () => (root.dataset.theme ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) === 'dark';
  const button = el('button', {type: 'button', class: 'quiet', title: 'light or dark', 'aria-label': 'light or dark'}, '◐');
  button.addEventListener('click', () => {
    root.dataset.theme = dark() ? 'light' : 'dark';
    root.dispatchEvent(new Event('theme'));
  });
  return button;
}
