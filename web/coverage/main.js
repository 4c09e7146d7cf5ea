// The page of what covers an area.
import { byId, copy, el, factsOf, hush, save, say, themeButton, whenWhole } from '../base/dom.js';
import { areaText as squareText, numeral } from '../base/numbers.js';
import { areaFrom, areaText, geojsonOf, metresBetween, shapeOf } from '../map/area.js';
import { bar, outlined, tone, words } from '../map/ink.js';
import { PlaneMap } from '../map/map.js';
import { Boxes, boxOf, graticuleStep, graticuleText, inShape, shareCovered, usualBox } from '../map/plane.js';
import { FILTERS, bytesText, commands, isKept, refuses, shortlistCsv, withRest } from './shortlist.js';

class Page {
  start() {
    this.facts = factsOf('facts');
    this.filter = {...FILTERS};
    this.hands = new Map();
    this.area = null;
    this.raised = -1;
    this.layersShown = {relief: true, demand: false};
    this.take(factsOf('answer'));
    this.build();
    this.pictures();
    this.tell();
    hush();
    window.katoptra = {page: this, map: this.map, drawn: performance.now()};
    document.documentElement.dataset.ready = 'true';
  }

  // A new answer of the search.
  take(answer) {
    this.answer = answer;
    // A live page keeps those that the last search did not meet: the next one may.
    this.found = answer.tiles.length;
    if (this.facts.live) this.everything ??= answer.tiles;
    this.tiles = withRest(answer.tiles, this.everything ?? []);
    for (const t of this.tiles) t.shape ??= [];
    this.placed = this.tiles.filter((t) => t.shape.length > 0);
    for (const t of this.placed) t.box = boxOf(t.shape);
    this.boxes = new Boxes(this.placed.map((t) => t.box));
    this.raised = -1;
  }
  passing() {
    return this.placed.filter((t) => refuses(this.filter, t) === '');
  }

  // ---- what stands there

  build() {
    const {facts} = this;
    document.body.classList.add('coverage');
    const stage = el('div', {id: 'map'});
    const panel = el('aside', {id: 'panel', 'aria-label': 'coverage, tiles and shortlist'});
    const handle = el('button', {type: 'button', id: 'handle', 'aria-expanded': 'true', 'aria-controls': 'panel', onclick: () => {
      handle.setAttribute('aria-expanded', String(!document.body.classList.toggle('closed')));
    }}, 'Panel');
    if (matchMedia('(max-width: 700px)').matches) document.body.classList.add('closed');
    document.body.append(stage, panel, handle);
    const box = facts.box ?? [-180, -60, 180, 80];
    const first = this.answer.area.shape.length > 0 ? boxOf(this.answer.area.shape) : usualBox(this.placed.map((t) => t.box));
    const middle = (box[1] + box[3]) / 2;
    this.map = new PlaneMap(stage, {box, wide: Math.max(Math.cos((middle * Math.PI) / 180), 0.05),
      label: 'Map of tiles. Arrow keys move it, plus and minus come nearer and go away; with the list of tiles under the pointer, page up and page down go through them.'});
    this.map.layers.push((c) => this.paintGround(c), (c) => this.paintTiles(c), (c) => this.paintArea(c), (c) => this.paintFrame(c));
    this.map.marks.push((c) => this.paintMarks(c));
    this.map.onHover = (x, y) => this.hover(x, y);
    this.map.onClick = (x, y) => this.click(x, y);
    this.map.onKey = (e) => this.key(e);
    panel.append(el('div', {class: 'row top'}, el('h1', {class: 'grow'}, facts.title), themeButton()),
      this.areaGroup(), el('section', {id: 'coverage', 'aria-live': 'polite'}), this.filterGroup(), this.tileGroup(), this.takeGroup(), this.mapGroup());
    if (first) this.map.show(first);
    document.documentElement.addEventListener('theme', () => this.map.redraw());
  }

  areaGroup() {
    const tools = [['box', 'Rectangle'], ['circle', 'Circle'], ['polygon', 'Polygon']];
    const buttons = tools.map(([kind, label]) => el('button', {type: 'button', 'data-draw': kind, 'aria-pressed': 'false', onclick: () => this.draw(kind)}, label));
    const field = el('input', {type: 'text', id: 'area', 'aria-label': 'the area', placeholder: 'box:W,S,E,N, circle:LON,LAT,RADIUS or GeoJSON', value: this.facts.area, spellcheck: 'false',
      onchange: () => this.typed(field.value)});
    return el('section', {class: 'group'}, el('h2', {}, 'Area'), el('div', {class: 'tools three'}, ...buttons), field,
      el('p', {class: 'row wrap'}, el('button', {type: 'button', onclick: () => copy(this.area?.kind === 'polygon' ? JSON.stringify(geojsonOf(this.area)) : field.value)}, 'Copy'),
        el('button', {type: 'button', onclick: () => this.saveArea()}, 'Save GeoJSON'),
        el('button', {type: 'button', onclick: () => this.clearArea()}, this.facts.area ? 'As written' : 'Clear')),
      el('p', {class: 'hint', id: 'area-says'}));
  }
  filterGroup() {
    const change = (key) => (e) => {
      this.filter[key] = e.target.value.trim();
      this.changed();
    };
    const values = (key) => [...new Set(this.tiles.map((t) => t[key]).filter((v) => v && v !== 'unknown'))].sort();
    const choice = (key, label) => el('label', {class: 'field'}, el('span', {}, label),
      el('select', {'data-filter': key, onchange: change(key)}, el('option', {value: ''}, 'any'), ...values(key).map((v) => el('option', {value: v}, v))));
    const number = (key, label, properties) => el('input', {type: 'number', 'data-filter': key, 'aria-label': label, placeholder: label, onchange: change(key), ...properties});
    return el('details', {class: 'group'}, el('summary', {}, 'Filters'), choice('survey', 'survey'), choice('kind', 'kind'),
      el('div', {class: 'field'}, el('span', {}, 'years'), number('from', 'from', {min: 1000, max: 9999}), number('to', 'to', {min: 1000, max: 9999})),
      el('label', {class: 'field'}, el('span', {}, 'cell up to'), number('cell', 'any', {min: 0, step: 'any'}), 'm'),
      choice('heights', 'heights'), choice('access', 'access'));
  }
  tileGroup() {
    return el('section', {class: 'group'}, el('h2', {}, 'Tiles'), el('p', {class: 'hint', id: 'which'}), el('ul', {class: 'pins', id: 'tiles'}), el('div', {id: 'tile', 'aria-live': 'polite'}));
  }
  takeGroup() {
    return el('section', {class: 'group'}, el('h2', {}, 'Shortlist'), el('p', {id: 'kept'}),
      el('p', {class: 'row wrap'}, el('button', {type: 'button', id: 'save', onclick: () => save('shortlist.csv', this.csv(), 'text/csv')}, 'Save shortlist.csv'),
        el('button', {type: 'button', onclick: () => {
          this.hands.clear();
          this.changed();
        }}, 'Undo by hand')),
      el('div', {id: 'commands'}));
  }
  mapGroup() {
    const {facts} = this;
    const check = (key, label) => el('label', {class: 'check'}, el('input', {type: 'checkbox', checked: this.layersShown[key], 'data-layer': key, onchange: (e) => {
      this.layersShown[key] = e.target.checked;
      this.map.redraw();
    }}), label);
    return el('details', {class: 'group', open: true}, el('summary', {}, 'Map'),
      el('ul', {class: 'legend'}, ...[['kept', 'kept'], ['not', 'not needed'], ['gap', 'gap'], ['area', 'the area']].map(([k, v]) => el('li', {}, el('i', {class: `swatch ${k}`}), v))),
      facts.relief ? check('relief', `relief of ${facts.relief.of}`) : '', facts.demand ? check('demand', `where data were asked for: ${facts.demand.of}`) : '',
      el('p', {class: 'row wrap'}, el('button', {type: 'button', onclick: () => this.map.whole()}, 'Whole'),
        el('button', {type: 'button', onclick: () => this.shape() && this.map.show(boxOf(this.shape()))}, 'To the area')));
  }

  csv() {
    const told = this.tiles.filter((t, i) => i < this.found || this.hands.get(t.key) === 'keep');
    return shortlistCsv(this.answer.head, told, this.hands);
  }
  // Of the area: drawn here, else of the answer; null when there is none.
  shape() {
    if (this.area) return shapeOf(this.area);
    return this.answer.area.shape.length > 0 ? this.answer.area.shape : null;
  }

  // ---- what is told

  tell() {
    this.tellCoverage();
    this.tellTiles();
    this.tellShortlist();
  }
  tellCoverage() {
    const {answer, facts} = this;
    const rows = [];
    const note = [];
    const fresh = !this.area || this.live;
    const byHand = [...this.hands.values()].includes('drop') && !facts.live;
    const kept = this.tiles.filter((t) => isKept(t, this.hands));
    const shape = this.shape();
    if (!shape) note.push(el('p', {class: 'hint'}, 'Draw an area, or type one, to see what covers it.'));
    else if (fresh && !byHand && !this.pending) {
      rows.push(['covered', shareText(answer.covered_fraction)], ['area', squareText(answer.area.m2)],
        ['tiles', `${kept.length} of ${this.found}, ${bytesText(kept.reduce((n, t) => n + t.bytes, 0))}`]);
      rows.push(['gaps', answer.gaps.length === 0 ? 'none' : `${answer.gaps.length}, ${squareText(answer.gap_area_m2)} together`]);
    } else {
      const usable = (this.area && !this.live ? this.passing().filter((t) => t.access === 'open' && t.openable) : kept);
      const touching = usable.filter((t) => t.box && touches(t.box, boxOf(shape)));
      const share = shareCovered(shape, touching.map((t) => t.shape));
      rows.push(['covered', share === null ? '–' : `about ${numeral(100 * share, 0)} %`], ['tiles', `${touching.length} touch it`]);
      if (this.pending) note.push(el('p', {class: 'hint'}, 'The search is under way.'));
      else if (this.area) note.push(el('p', {class: 'hint'}, 'This page was written for another area: the command below searches this one.'));
      else note.push(el('p', {class: 'hint'}, 'Without the tiles that were dropped by hand, told from a raster of the area.'));
    }
    const gaps = fresh ? answer.gaps.slice(0, 12).map((g) => el('li', {class: 'warning'}, el('button', {type: 'button', onclick: () => this.map.show(boxOf(g.shape))},
      `${g.where}: ${squareText(g.area_m2)}. ${g.closed_by ? `${g.closed_by} would close ${numeral(100 * g.closed_fraction, 0)} %: ${g.how}` : 'No survey covers it.'}`))) : [];
    byId('coverage').className = 'group';
    byId('coverage').replaceChildren(el('h2', {}, 'Coverage'), el('dl', {class: 'answer'}, ...rows.flatMap(([k, v]) => [el('dt', {}, k), el('dd', {}, v)])), ...note,
      el('ul', {class: 'pins wrapped'}, ...gaps), ...answer.notes.map((n) => el('p', {class: 'hint'}, n)));
  }
  tellTiles() {
    const list = this.under ?? this.passing().filter((t) => isKept(t, this.hands));
    const shown = list.slice(0, 200);
    byId('which').textContent = this.under ? (this.under.length ? `${this.under.length} here; up and down go through them.` : 'None here.')
      : `Those that are kept. Point at the map or click it for all that lie there.${list.length > 200 ? ` The first 200 of ${list.length}.` : ''}`;
    byId('tiles').replaceChildren(...shown.map((t) => el('li', {class: isKept(t, this.hands) ? 'control' : ''}, el('button', {type: 'button', 'data-tile': t.number,
      onmouseenter: () => this.raise(t.number, false), onfocus: () => this.raise(t.number, false), onclick: () => this.raise(t.number, true),
      onkeydown: (e) => this.walk(e)}, `${t.name}  ${t.date.slice(0, 4)}`))));
    this.tellTile();
  }
  tellTile() {
    const t = this.tiles[this.raised];
    const box = byId('tile');
    if (!t) {
      box.replaceChildren();
      return;
    }
    const kept = isKept(t, this.hands);
    const hand = this.hands.get(t.key);
    const rows = [['survey', t.survey], ['date', t.date + (t.date_guessed ? ' (a guess)' : '')], t.density > 0 ? ['density', `${numeral(t.density, 1)} points/m²`] : ['cell', t.cell_m > 0 ? `${Number(t.cell_m.toPrecision(4))} m` : 'unknown'],
      ['classes', t.classes.join(', ')], ['heights', `${t.heights}, ${t.unit}`], ['CRS', t.crs ?? 'none told'], ['format', `${t.format}, ${t.kind}`], ['size', bytesText(t.bytes)],
      ['licence', t.licence || 'not told'], ['access', t.access === 'open' ? 'open' : `${t.access}${t.custodian ? `: ask ${t.custodian}` : ''}`],
      ['covers', `${numeral(100 * t.covered_fraction, 1)} % of the area`], [kept ? 'kept' : 'not kept', hand ? `by hand; the search: ${t.reason}` : t.reason]];
    box.replaceChildren(el('h3', {}, t.name), el('dl', {class: 'answer'}, ...rows.filter(([, v]) => v).flatMap(([k, v]) => [el('dt', {}, k), el('dd', {}, v)])),
      el('p', {class: 'row'}, el('button', {type: 'button', id: 'hand', onclick: () => this.hand(t, kept ? 'drop' : 'keep')}, kept ? 'Drop it' : 'Keep it'),
        hand ? el('button', {type: 'button', onclick: () => this.hand(t, null)}, 'As searched') : ''));
  }
  tellShortlist() {
    const kept = this.tiles.filter((t) => isKept(t, this.hands));
    const closed = kept.filter((t) => t.access !== 'open').length;
    byId('kept').textContent = `${kept.length} tiles, ${bytesText(kept.reduce((n, t) => n + t.bytes, 0))}${this.hands.size ? `, ${this.hands.size} by hand` : ''}${closed ? `; ${closed} of them are not open` : ''}.`;
    byId('save').disabled = kept.length === 0;
    byId('commands').replaceChildren(...commands(this.facts, this.area, this.filter).map((text) => el('div', {class: 'command'}, el('code', {}, text), el('button', {type: 'button', title: 'copy', 'aria-label': `copy: ${text}`, onclick: () => copy(text)}, 'Copy'))));
  }

  changed() {
    this.map.redraw();
    this.tell();
    if (this.facts.live && this.shape()) this.ask();
  }
  hand(tile, what) {
    const searched = tile.kept ? 'keep' : 'drop';
    if (what === null || what === searched) this.hands.delete(tile.key);
    else this.hands.set(tile.key, what);
    this.changed();
  }

  // ---- the area

  draw(kind) {
    const on = this.drawing === kind ? null : kind;
    this.drawing = on;
    for (const b of document.querySelectorAll('[data-draw]')) b.setAttribute('aria-pressed', String(b.dataset.draw === on));
    byId('area-says').textContent = {box: 'Drag from corner to corner.', circle: 'Drag from the middle outwards.', polygon: 'Click the corners; double-click or Enter ends.'}[on] ?? '';
    if (!on) {
      this.map.draws = null;
      return;
    }
    let from = null;
    let corners = [];
    const done = () => {
      this.draw(kind);
      this.areaChanged(true);
    };
    const dragging = (make) => ({
      down: (p) => { from = p; },
      move: (p) => {
        this.area = make(from, p);
        this.areaChanged(false);
      },
      up: (p, moved) => moved && done(),
      cancel: () => this.draw(kind),
    });
    if (on === 'box') {
      this.map.draws = dragging((a, b) => ({kind: 'box', box: [Math.min(a.x, b.x), Math.min(a.y, b.y), Math.max(a.x, b.x), Math.max(a.y, b.y)]}));
    } else if (on === 'circle') {
      this.map.draws = dragging((a, b) => ({kind: 'circle', x: a.x, y: a.y, radius: Math.max(metresBetween(a.x, a.y, b.x, b.y), 1)}));
    } else {
      const show = (next) => {
        const ring = [...corners, ...(next ? [[next.x, next.y]] : [])];
        if (ring.length < 2) return;
        this.area = {kind: 'polygon', shape: [[[...ring, ring[0]]]]};
        this.areaChanged(false);
      };
      const end = () => {
        // The two clicks of a double click are one corner.
        corners = corners.filter(([x, y], i) => i === 0 || Math.hypot(x - corners[i - 1][0], y - corners[i - 1][1]) * this.map.view.scale > 3);
        if (corners.length < 3) return;
        show(null);
        done();
      };
      this.map.draws = {hover: (p) => corners.length > 0 && show(p), up: (p, moved) => {
        if (moved) return;
        corners.push([p.x, p.y]);
        show(null);
      }, end, cancel: () => this.draw(kind)};
    }
  }
  typed(text) {
    const says = byId('area-says');
    if (text.trim() === this.facts.area && this.facts.area !== '' && !this.facts.live) {
      this.clearArea();
      return;
    }
    try {
      this.area = areaFrom(text.trim());
      says.textContent = '';
      this.areaChanged(true);
      this.map.show(boxOf(shapeOf(this.area)));
    } catch (error) {
      says.textContent = `${error.message[0].toUpperCase()}${error.message.slice(1)}.`;
    }
  }
  areaChanged(ended) {
    this.live = false;
    // A search for the area as it was may answer before the next one is asked.
    this.asked = (this.asked ?? 0) + 1;
    this.abort?.abort();
    if (this.area) byId('area').value = areaText(this.area);
    if (ended) byId('area-says').textContent = this.area?.kind === 'polygon' ? 'A polygon lies in a file: save it as GeoJSON, and the commands below read it.' : '';
    this.under = null;
    this.map.redraw();
    clearTimeout(this.telling);
    this.telling = setTimeout(() => {
      this.tell();
      if (this.facts.live) this.ask();
    }, ended ? 0 : 80);
  }
  clearArea() {
    this.area = null;
    byId('area').value = this.facts.area;
    byId('area-says').textContent = '';
    if (this.facts.live) this.take({...this.answer, area: {shape: [], m2: 0}, gaps: [], notes: [], tiles: this.everything});
    this.changed();
  }
  saveArea() {
    const shape = this.shape();
    if (!shape) say('There is no area yet: draw one.', 'brief');
    else save('area.geojson', `${JSON.stringify(geojsonOf(this.area ?? {kind: 'polygon', shape}), null, 1)}\n`, 'application/geo+json');
  }

  // The service searches; what was asked before and comes late is left aside.
  async ask() {
    const number = (this.asked = (this.asked ?? 0) + 1);
    this.pending = true;
    this.abort?.abort();
    this.abort = new AbortController();
    const drop = this.tiles.filter((t) => this.hands.get(t.key) === 'drop').map((t) => t.key);
    const body = JSON.stringify({shape: this.shape(), text: this.area && this.area.kind !== 'polygon' ? areaText(this.area) : '', filter: this.filter, drop});
    try {
      const reply = await fetch(this.facts.live, {method: 'POST', headers: {'Content-Type': 'application/json'}, body, signal: this.abort.signal});
      const answer = await reply.json();
      if (number !== this.asked) return;
      this.pending = false;
      if (!reply.ok) throw new Error(answer.description ?? 'the service refused');
      const raised = this.tiles[this.raised]?.key;
      this.take(answer);
      this.raised = this.tiles.findIndex((t) => t.key === raised);
      this.live = true;
      this.under = null;
      byId('area-says').textContent = '';
      this.tell();
      this.map.redraw();
    } catch (error) {
      if (number !== this.asked || error.name === 'AbortError') return;
      this.pending = false;
      byId('area-says').textContent = `The service did not answer: ${error.message}.`;
    }
  }

  // ---- pointer and keys

  tilesAt(px, py) {
    const p = this.map.place(px, py);
    return this.boxes.at(p.x, p.y).map((i) => this.placed[i]).filter((t) => inShape(t.shape, p.x, p.y) && refuses(this.filter, t) === '');
  }
  hover(px, py) {
    if (this.held) return;
    const found = Number.isNaN(px) ? null : this.tilesAt(px, py);
    this.here = Number.isNaN(px) ? null : this.map.place(px, py);
    const key = found ? found.map((t) => t.number).join() : '';
    if (key !== this.underKey) {
      this.underKey = key;
      this.under = found && found.length > 0 ? found : null;
      this.raised = this.under ? this.under[0].number : -1;
      this.tellTiles();
    }
    this.map.mark();
  }
  click(px, py) {
    const found = this.tilesAt(px, py);
    const same = this.held && found.length > 0 && found.map((t) => t.number).join() === this.underKey;
    this.held = found.length > 0;
    this.underKey = found.map((t) => t.number).join();
    this.under = found.length > 0 ? found : null;
    // Another click at the same place takes the next one below.
    const at = same ? (found.findIndex((t) => t.number === this.raised) + 1) % found.length : 0;
    this.raise(found[at]?.number ?? -1, false);
    this.tellTiles();
  }
  raise(number, shows) {
    this.raised = number;
    for (const b of document.querySelectorAll('#tiles [data-tile]')) b.classList.toggle('chosen', Number(b.dataset.tile) === number);
    this.tellTile();
    this.map.mark();
    const t = this.tiles[number];
    if (shows && t && t.shape.length > 0) {
      const {box} = t;
      const [w, s, e, n] = this.map.seen();
      if (box[0] > e || box[2] < w || box[1] > n || box[3] < s) this.map.show(box);
    }
  }
  walk(e) {
    const step = {ArrowDown: 1, ArrowUp: -1}[e.key];
    if (!step) return;
    e.preventDefault();
    const all = [...document.querySelectorAll('#tiles [data-tile]')];
    all[(all.indexOf(e.target) + step + all.length) % all.length]?.focus();
  }
  key(e) {
    const step = {PageDown: 1, PageUp: -1}[e.key];
    if (!step || !this.under || this.under.length === 0) {
      if (e.key === 'Escape' && this.held) {
        this.held = false;
        this.hover(NaN, NaN);
        return true;
      }
      return false;
    }
    e.preventDefault();
    const at = this.under.findIndex((t) => t.number === this.raised);
    this.raise(this.under[(at + step + this.under.length) % this.under.length].number, false);
    return true;
  }

  // ---- the picture

  pictures() {
    for (const key of ['relief', 'demand']) {
      const facts = this.facts[key];
      if (!facts) continue;
      const image = new Image();
      image.onload = () => {
        facts.image = image;
        this.map.redraw();
      };
      image.src = facts.png;
    }
  }
  paintGround(c) {
    for (const key of ['relief', 'demand']) {
      const facts = this.facts[key];
      if (facts?.image && this.layersShown[key]) this.map.picture(c, facts.image, facts.box, key === 'relief' ? 0.8 : 0.65);
    }
  }
  paintTiles(c) {
    const all = this.passing();
    const [w, s, e, n] = this.map.seen();
    const hatch = this.hatching(c);
    for (const kept of [false, true]) {
      c.lineWidth = kept ? 1.6 : 1;
      c.strokeStyle = kept ? tone('accent') : tone('quiet');
      c.fillStyle = tone('accent');
      for (const t of all) {
        if (isKept(t, this.hands) !== kept) continue;
        const [tw, ts, te, tn] = t.box;
        if (tw > e || te < w || ts > n || tn < s) continue;
        c.setLineDash(t.access === 'open' ? [] : [5, 4]);
        this.map.path(c, t.shape);
        if (kept) {
          c.globalAlpha = 0.14;
          c.fill('evenodd');
        }
        c.globalAlpha = kept ? 1 : all.length > 400 ? 0.35 : 0.6;
        c.stroke();
        c.globalAlpha = 1;
      }
    }
    c.setLineDash([]);
    if (this.area && !this.live) return;
    for (const g of this.answer.gaps) {
      this.map.path(c, g.shape);
      c.fillStyle = hatch;
      c.fill('evenodd');
      c.strokeStyle = tone('bad');
      c.lineWidth = 1.2;
      c.stroke();
    }
  }
  hatching(c) {
    const small = el('canvas', {width: 8, height: 8});
    const s = small.getContext('2d');
    s.strokeStyle = tone('bad');
    s.lineWidth = 1.4;
    for (const d of [-8, 0, 8]) {
      s.moveTo(d, 8);
      s.lineTo(d + 8, 0);
    }
    s.stroke();
    return c.createPattern(small, 'repeat');
  }
  paintArea(c) {
    const shape = this.shape();
    if (!shape) return;
    this.map.path(c, shape);
    outlined(c, 4.5, tone('ink'));
  }
  // Graticule, numbers at the rim, scale.
  paintFrame(c) {
    const {map} = this;
    const [w, s, e, n] = map.seen();
    const {width, height} = map.size;
    const stepX = graticuleStep(e - w, Math.max(2, width / 170));
    const stepY = graticuleStep(n - s, Math.max(2, height / 130));
    const line = (x0, y0, x1, y1) => {
      c.globalAlpha = 0.5;
      c.lineWidth = 0.5;
      c.strokeStyle = tone('quiet');
      c.beginPath();
      c.moveTo(x0, y0);
      c.lineTo(x1, y1);
      c.stroke();
      c.globalAlpha = 1;
    };
    for (let i = Math.ceil(w / stepX); i * stepX <= e; ++i) {
      const {x} = map.px(i * stepX, s);
      line(x, 0, x, height);
      const lon = i * stepX;
      words(c, graticuleText(lon > 180 ? lon - 360 : lon < -180 ? lon + 360 : lon, stepX, ['E', 'W']), x, height - 7, 'center');
    }
    for (let i = Math.ceil(s / stepY); i * stepY <= n; ++i) {
      const {y} = map.px(w, i * stepY);
      line(0, y, width, y);
      words(c, graticuleText(i * stepY, stepY, ['N', 'S']), 8, y - 4);
    }
    const a = map.place(width - 140, height - 34);
    const b = map.place(width - 20, height - 34);
    bar(c, width - 20, height - 34, metresBetween(a.x, a.y, b.x, b.y) / 120);
  }
  paintMarks(c) {
    const t = this.tiles[this.raised];
    if (t && t.shape.length > 0) {
      this.map.path(c, t.shape);
      c.globalAlpha = 0.25;
      c.fillStyle = tone('warn');
      c.fill('evenodd');
      c.globalAlpha = 1;
      outlined(c, 5, tone('warn'));
    }
    const {width, height} = this.map.size;
    if (this.here) words(c, `${numeral(this.here.y, 5)}, ${numeral(this.here.x, 5)}`, width - 20, height - 58, 'right', {font: '12px'});
  }
}

// All of it is said only when it is all.
function shareText(share) {
  if (share === 1) return '100 %';
  return `${numeral(share > 0.999 ? Math.min(100 * share, 99.999) : 100 * share, share > 0.999 ? 3 : 1)} %`;
}

function touches(a, b) {
  return a[0] <= b[2] && b[0] <= a[2] && a[1] <= b[3] && b[1] <= a[3];
}

whenWhole(() => new Page().start());
