// The report answers back: a map of the surface in layers that are switched, blended and asked, findings that are found
// again on it, graphs that tell their values. Without this the page says the same, with pictures.
import { byId, el, factsOf, textOf, whenWhole } from '../base/dom.js';
import { atPlace, legend, pageData } from '../base/drapes.js';
import { SectionGraph } from '../base/graph.js';
import { sectionOf } from '../base/measures.js';
import { decimalsOf, ticks } from '../base/numbers.js';
import { inShape } from '../map/plane.js';
import { bar, outlined, tone, words } from '../map/ink.js';
import { PlaneMap } from '../map/map.js';

const TONES = {failure: 'bad', warning: 'warn', note: 'quiet', control: 'accent'};

// A layer as it lies on the map: cells as a picture, made when it is first seen.
class Raster {
  constructor(name, drape, surface, on, opacity = 1) {
    Object.assign(this, {name, drape, surface, on, opacity});
  }
  get picture() {
    if (this.made) return this.made;
    const bytes = this.drape ? this.drape.paint(null, this.surface.values) : lightOf(this.surface);
    const {cols, rows} = this.drape?.cols ? this.drape : this.surface;
    this.made = el('canvas', {width: cols, height: rows});
    this.made.getContext('2d').putImageData(new ImageData(new Uint8ClampedArray(bytes.buffer), cols, rows), 0, 0);
    return this.made;
  }
}

// What the sun from the north-west leaves of white.
function lightOf(surface) {
  const {east, north} = surface.gradients();
  const bytes = new Uint8Array(4 * east.length);
  const sun = [-0.5, 0.5, Math.SQRT1_2];
  for (let i = 0; i < east.length; ++i) {
    if (Number.isNaN(east[i])) continue;
    const long = Math.sqrt(1 + east[i] ** 2 + north[i] ** 2);
    const shade = 1 + 254 * Math.max(0, (-east[i] * sun[0] - north[i] * sun[1] + sun[2]) / long);
    const light = Math.min(255, 255 * (0.55 + 0.45 * shade / 180.6) ** 1.36 * 0.93);
    bytes.fill(light, 4 * i, 4 * i + 3);
    bytes[4 * i + 3] = 255;
  }
  return bytes;
}

class Report {
  async start() {
    const facts = factsOf('facts');
    const data = await pageData(facts, textOf);
    Object.assign(this, {facts, ...data, surface: data.surfaces[0], chosen: null, asked: null});
    const {surface} = this;
    this.layers = this.drapes.filter((d) => d.label !== 'light alone').map((d, i) => new Raster(d.label, d, surface, i === 0));
    this.light = new Raster('light', null, surface, true, 0.8);
    this.build();
    this.findings();
    this.graphs();
    this.choose(0);
    window.katoptra = {report: this, map: this.map, surfaces: this.surfaces, drawn: performance.now()};
    document.documentElement.dataset.ready = 'true';
  }

  build() {
    const {facts, surface} = this;
    const {cols, rows, ground} = surface;
    const stage = el('div', {id: 'map'});
    const side = el('div', {class: 'side'});
    this.line = el('div', {class: 'line', hidden: true});
    byId('ask').replaceWith(el('section', {class: 'asks', 'aria-label': 'the surface, to be asked'}, stage, side, this.line));
    const middle = ground.scale(cols / 2, rows / 2);
    // Columns to the east, rows to the south: y counts up.
    this.map = new PlaneMap(stage, {box: [0, -rows, cols, 0], wide: middle.x / middle.y, label: `Map of ${facts.title}. Arrow keys move it, plus and minus come nearer and go away, Enter asks for the middle.`});
    this.metres = middle.y;
    this.map.layers.push((c) => this.paintLayers(c), (c) => this.paintPins(c), (c) => this.paintFrame(c));
    this.map.marks.push((c) => this.paintMarks(c));
    this.told = el('p', {class: 'told'});
    stage.append(this.told, el('div', {class: 'map-tools'}, el('button', {type: 'button', onclick: () => this.map.whole()}, 'Whole')));
    const row = (layer, extra) => {
      const box = el('input', {type: 'checkbox', checked: layer.on, 'aria-label': layer.name, 'data-layer': layer.name, onchange: () => {
        layer.on = box.checked;
        if (extra && box.checked) this.choose(this.layers.indexOf(layer));
        this.map.redraw();
      }});
      return el('label', {class: 'layer'}, box, el('span', {}, layer.name), el('input', {type: 'range', min: 0, max: 1, step: 0.05, value: layer.opacity, 'aria-label': `opacity of ${layer.name}`, oninput: (e) => {
        layer.opacity = Number(e.target.value);
        this.map.redraw();
      }}));
    };
    this.pinsOn = true;
    side.append(el('h3', {}, 'Layers'), ...this.layers.map((l) => row(l, true)), row(this.light, false),
      facts.pins.length > 0 ? el('label', {class: 'check'}, el('input', {type: 'checkbox', checked: true, onchange: (e) => {
        this.pinsOn = e.target.checked;
        this.map.redraw();
      }}), 'findings and control points') : '',
      el('ul', {class: 'legend', id: 'legend'}), el('h3', {}, 'Here'), el('dl', {class: 'answer', id: 'answer', 'aria-live': 'polite'}, el('dd', {}, 'Click the map to ask.')));
    this.map.onHover = (x, y) => this.hover(x, y);
    this.map.onClick = (x, y) => this.click(x, y);
    this.map.onKey = (e) => {
      if (e.key !== 'Enter') return false;
      this.click(this.map.size.width / 2, this.map.size.height / 2);
      return true;
    };
    document.documentElement.addEventListener('theme', () => this.map.redraw());
  }

  cellAt(px, py) {
    const p = this.map.place(px, py);
    return {col: p.x, row: -p.y};
  }
  at(col, row) {
    return this.map.px(col, -row);
  }
  // The legend is that of the layer that was switched on last.
  choose(i) {
    const layer = this.layers[i];
    legend(byId('legend'), layer.drape.inColours(), layer.drape.unit);
  }

  hover(px, py) {
    const p = Number.isNaN(px) ? null : this.cellAt(px, py);
    const rows = p && this.surface.inside(p.col, p.row) ? atPlace(this.facts, this.surfaces.slice(0, 1), [], p) : [];
    this.told.textContent = rows.filter(([k]) => k !== '').map(([k, v]) => (k === 'place' ? v : `${k} ${v}`)).join('   ');
    this.near = p ? this.pinAt(px, py) : null;
    this.map.mark();
  }
  click(px, py) {
    const pin = this.pinAt(px, py);
    if (pin !== null) this.showPin(pin, false);
    const p = this.cellAt(px, py);
    if (!this.surface.inside(p.col, p.row)) return;
    this.asked = p;
    const rows = atPlace(this.facts, this.surfaces, this.questions, p);
    if (pin !== null) rows.unshift([this.facts.pins[pin].name, this.facts.pins[pin].text]);
    byId('answer').replaceChildren(...rows.flatMap(([k, v]) => [el('dt', {}, k), el('dd', {}, v)]));
    this.map.mark();
  }
  // A mark within reach of the pointer; else a finding's outline around it.
  pinAt(px, py) {
    if (!this.pinsOn) return null;
    let best = null;
    let least = 10;
    this.facts.pins.forEach((pin, i) => {
      const q = this.at(pin.at[0], pin.at[1]);
      const d = Math.hypot(q.x - px, q.y - py);
      if (d < least) [least, best] = [d, i];
    });
    if (best !== null) return best;
    const p = this.cellAt(px, py);
    const found = this.facts.pins.findIndex((pin) => pin.shape.length > 0 && inShape(pin.shape, p.col, p.row));
    return found < 0 ? null : found;
  }
  showPin(i, moves) {
    this.chosen = i;
    for (const row of document.querySelectorAll('tr[data-pin]')) row.classList.toggle('chosen', Number(row.dataset.pin) === i);
    const pin = this.facts.pins[i];
    if (moves) {
      const points = pin.shape.length > 0 ? pin.shape.flatMap((rings) => rings[0]) : [pin.at];
      const cols = points.map((p) => p[0]);
      const rows = points.map((p) => p[1]);
      const room = 0.06 * Math.max(this.surface.cols, this.surface.rows);
      this.map.show([Math.min(...cols) - room, -Math.max(...rows) - room, Math.max(...cols) + room, -Math.min(...rows) + room]);
      this.map.parent.scrollIntoView({block: 'center', behavior: matchMedia('(prefers-reduced-motion: reduce)').matches ? 'auto' : 'smooth'});
    }
    this.map.redraw();
  }
  findings() {
    for (const row of document.querySelectorAll('tr[data-pin]')) {
      const i = Number(row.dataset.pin);
      row.tabIndex = 0;
      row.setAttribute('aria-label', `${this.facts.pins[i].name}: show it on the map`);
      row.addEventListener('click', () => this.showPin(i, true));
      row.addEventListener('keydown', (e) => {
        if (e.key === 'Enter' || e.key === ' ') {
          e.preventDefault();
          this.showPin(i, true);
        }
      });
    }
  }

  // Sections that the study asked for, from the surface itself.
  graphs() {
    const {facts, surfaces} = this;
    if (facts.lines.length === 0) return;
    const line = facts.lines[0].points.map(([col, row]) => ({col, row}));
    const series = surfaces.map((s, i) => ({name: facts.surfaces[i].label, points: sectionOf(s, line)}));
    if (series[0].points.length < 2) return;
    this.section = series[0].points;
    const graph = new SectionGraph(series, {unit: facts.surfaces[0].unit, width: Math.max(320, this.line.parentElement.clientWidth - 26), height: 170, decimals: decimalsOf(facts.planes[0].step),
      title: `section along ${facts.lines[0].name}`, onPoint: (i) => {
        this.marked = i === null ? null : this.section[i];
        this.map.mark();
      }});
    this.line.append(el('div', {class: 'row'}, el('b', {}, `Along ${facts.lines[0].name}`), ...(series.length > 1 ? series.map((s, i) => el('span', {class: `key line${i}`}, s.name)) : [])), graph.element);
    this.line.hidden = false;
  }

  // ---- the picture

  paintLayers(c) {
    const {cols, rows} = this.surface;
    const box = [0, -rows, cols, 0];
    for (const layer of this.layers) if (layer.on) this.map.picture(c, layer.picture, box, layer.opacity);
    if (!this.light.on) return;
    c.globalCompositeOperation = 'multiply';
    this.map.picture(c, this.light.picture, box, this.light.opacity);
    c.globalCompositeOperation = 'source-over';
  }
  paintPins(c) {
    for (const line of this.facts.lines) {
      c.beginPath();
      line.points.forEach(([col, row], i) => {
        const p = this.at(col, row);
        if (i === 0) c.moveTo(p.x, p.y);
        else c.lineTo(p.x, p.y);
      });
      outlined(c, 4, tone('ink'));
    }
    if (!this.pinsOn) return;
    this.facts.pins.forEach((pin, i) => {
      c.strokeStyle = tone(TONES[pin.tone] ?? 'quiet');
      c.fillStyle = c.strokeStyle;
      if (pin.shape.length > 0) {
        this.map.path(c, pin.shape.map((rings) => rings.map((ring) => ring.map(([col, row]) => [col, -row]))));
        c.lineWidth = i === this.chosen ? 3 : 1.5;
        c.stroke();
      }
      const p = this.at(pin.at[0], pin.at[1]);
      c.beginPath();
      c.arc(p.x, p.y, pin.tone === 'control' ? 3 : 5, 0, 7);
      c.fill();
      c.strokeStyle = tone('paper');
      c.lineWidth = 1.2;
      c.stroke();
    });
  }
  paintFrame(c) {
    const {map, surface} = this;
    const [w, s, e, n] = map.seen();
    const {ground} = surface;
    const a = ground.place(w, -s);
    const b = ground.place(e, -n);
    for (const x of ticks(a.x, b.x, 4)) {
      const p = map.px(ground.cell(x, a.y).col, 0);
      c.fillStyle = tone('ink');
      c.fillRect(p.x, 0, 1, 6);
      words(c, ground.degrees ? x.toFixed(4) : String(Math.round(x)), p.x, 18, 'center');
    }
    for (const y of ticks(a.y, b.y, 4)) {
      const p = map.px(0, -ground.cell(a.x, y).row);
      c.fillStyle = tone('ink');
      c.fillRect(0, p.y, 6, 1);
      if (p.y > 26) words(c, ground.degrees ? y.toFixed(4) : String(Math.round(y)), 9, p.y + 4, 'left');
    }
    bar(c, map.size.width - 16, map.size.height - 14, this.metres / map.view.scale);
  }
  paintMarks(c) {
    const ring = (p, colour, size) => {
      c.beginPath();
      c.arc(p.x, p.y, size, 0, 7);
      outlined(c, 4.5, colour);
    };
    if (this.asked) ring(this.at(this.asked.col, this.asked.row), tone('ink'), 6);
    if (this.marked) ring(this.at(this.marked.col, this.marked.row), tone('accent'), 6);
    const pin = this.near ?? this.chosen;
    if (pin === null || pin === undefined) return;
    const {name, at, tone: kind} = this.facts.pins[pin];
    const p = this.at(at[0], at[1]);
    ring(p, tone(TONES[kind] ?? 'quiet'), 8);
    words(c, name, p.x + 12, p.y + 4, 'left', {font: '600 12.5px', around: 'paper', width: 4});
  }
}

whenWhole(async () => {
  if (!byId('facts')) return;
  await new Report().start();
});
