// What is asked of a surface by clicks: a height, a distance, a section, an area and its volume.
import { el, fileName, save, say } from '../base/dom.js';
import { atPlace } from '../base/drapes.js';
import { SectionGraph } from '../base/graph.js';
import { areaOf, lengthsOf, sectionCsv, sectionOf, volumeOf } from '../base/measures.js';
import { areaText, decimalsOf, lengthText, numeral, volumeText } from '../base/numbers.js';
import { outlined, tone } from '../map/ink.js';

export const TOOLS = [
  {name: 'ask', label: 'Ask', hint: 'Click a place to ask for its height and more.'},
  {name: 'measure', label: 'Measure', hint: 'Click places one after another: distances along the way.'},
  {name: 'section', label: 'Section', hint: 'Click where a section begins and where it ends; more clicks go on.'},
  {name: 'area', label: 'Area', hint: 'Click the corners of an area: its size, its volume above and below a level.'},
];

export class Asking {
  // `facts`: of the page; `planes`: [{label, plane, values, unit, classes}] that can be asked besides the height.
  constructor(scene, facts, planes, answer, drawer) {
    Object.assign(this, {scene, facts, planes, answer, drawer, tool: 'ask', corners: [], marked: null, level: null});
    this.surface = scene.surfaces[0];
    this.decimals = decimalsOf(facts.planes[facts.surfaces[0].plane].step);
    scene.painters.push((c) => this.paint(c));
    scene.onClick = (x, y) => this.click(scene.struck(x, y));
    this.tell();
  }

  take(tool) {
    this.tool = tool;
    this.clear();
  }
  clear() {
    this.corners = [];
    this.marked = null;
    this.graph = null;
    this.section = null;
    this.drawer.hidden = true;
    this.drawer.replaceChildren();
    this.tell();
    this.scene.draw();
  }

  click(hit) {
    if (!hit) {
      say('There is no surface at that place.', 'brief');
      setTimeout(() => say(''), 1500);
      return;
    }
    if (this.tool === 'ask') this.corners = [hit];
    else this.corners.push(hit);
    this.tell();
    this.scene.draw();
  }
  // A section along a line that was given.
  follow(points) {
    this.tool = 'section';
    this.corners = points.map(([col, row]) => ({col, row, height: this.surface.height(col, row)}));
    this.tell();
    this.scene.draw();
  }

  tell() {
    this.onChange?.();
    const {answer, corners} = this;
    const rows = [];
    const buttons = [];
    if (corners.length === 0) {
      answer.replaceChildren(el('p', {class: 'hint'}, TOOLS.find((t) => t.name === this.tool).hint));
      return;
    }
    if (this.tool === 'ask') rows.push(...this.atPlace(corners[0]));
    if (this.tool === 'measure') this.tellDistances(rows);
    if (this.tool === 'section') this.tellSection(rows);
    if (this.tool === 'area') this.tellArea(rows);
    if (this.tool !== 'ask') {
      buttons.push(el('button', {type: 'button', onclick: () => {
        corners.pop();
        if (corners.length < 2) this.drawer.hidden = true;
        this.tell();
        this.scene.draw();
      }}, 'Take back'));
    }
    buttons.push(el('button', {type: 'button', onclick: () => this.clear()}, 'Clear'));
    answer.replaceChildren(el('dl', {class: 'answer'}, ...rows.flatMap(([k, v]) => [el('dt', {}, k), el('dd', {}, v)])),
      this.tool === 'area' ? this.levelField() : '', el('p', {class: 'row'}, ...buttons));
  }

  // What is known of a place; `all`: of every plane that can be asked.
  atPlace(p, all = true) {
    const rows = atPlace(this.facts, this.scene.surfaces, all ? this.planes : [], p);
    if (!p.point) return rows;
    const {kind, intensity, number, of, line} = p.point;
    const name = this.facts.points.classes.find((k) => k.code === kind)?.name ?? '';
    return [['point', `${numeral(p.height, this.decimals)} ${this.surface.facts.unit}, ${kind} ${name}`],
      ['above the ground', `${numeral(p.height - this.surface.height(p.col, p.row), this.decimals)} ${this.surface.facts.unit}`],
      ['', `return ${number} of ${of}, intensity ${intensity}, line ${line}`], ...rows];
  }

  tellDistances(rows) {
    const {corners, surface} = this;
    const text = (m) => lengthText(m, surface.facts.unit, surface.facts.metres);
    if (corners.length < 2) {
      rows.push(['from', `${numeral(corners[0].height, this.decimals)} ${surface.facts.unit}`]);
      return;
    }
    const {flat, along} = lengthsOf(surface, corners);
    const rise = (corners[corners.length - 1].height - corners[0].height) * surface.facts.metres;
    const straight = corners.length === 2 ? Math.hypot(flat, rise) : null;
    rows.push(['on the level', text(flat)]);
    if (straight !== null) rows.push(['through the air', text(straight)]);
    rows.push(['over the ground', Number.isNaN(along) ? 'there are voids on the way' : text(along)]);
    rows.push(['height difference', text(rise)]);
    if (flat > 0) rows.push(['mean slope', `${numeral((Math.atan2(rise, flat) * 180) / Math.PI, 2)}°, ${numeral((100 * rise) / flat, 1)} %`]);
  }

  tellSection(rows) {
    const {corners, surface, scene, facts} = this;
    if (corners.length < 2) {
      rows.push(['begins at', `${numeral(corners[0].height, this.decimals)} ${surface.facts.unit}`]);
      return;
    }
    const series = scene.surfaces.map((s, i) => ({name: facts.surfaces[i].label, points: sectionOf(s, corners)}));
    this.section = series[0].points;
    if (this.section.length < 2) return;
    const known = this.section.map((p) => p.value).filter((v) => !Number.isNaN(v));
    rows.push(['length', lengthText(this.section[this.section.length - 1].distance * surface.facts.metres, surface.facts.unit, surface.facts.metres)]);
    if (known.length > 0) {
      const low = known.reduce((a, b) => Math.min(a, b));
      const high = known.reduce((a, b) => Math.max(a, b));
      rows.push(['heights', `${numeral(low, this.decimals)} to ${numeral(high, this.decimals)} ${surface.facts.unit}`]);
    }
    if (known.length < this.section.length) rows.push(['voids', `${this.section.length - known.length} of ${this.section.length} points`]);
    this.graph = new SectionGraph(series, {unit: surface.facts.unit, width: Math.max(320, Math.min(this.drawer.parentElement.clientWidth - 24, 1180)), height: 200,
      decimals: this.decimals, title: `section of ${facts.title}`, onPoint: (i) => {
        this.marked = i === null ? null : this.section[i];
        scene.draw();
      }});
    const csv = el('button', {type: 'button', onclick: () => save(fileName(facts.title, '-section.csv'), sectionCsv(surface.ground, this.section, this.decimals), 'text/csv')}, 'Save CSV');
    const svg = el('button', {type: 'button', onclick: () => save(fileName(facts.title, '-section.svg'), this.graph.svg(), 'image/svg+xml')}, 'Save SVG');
    const legend = series.length > 1 ? series.map((s, i) => el('span', {class: `key line${i}`}, s.name)) : [];
    this.drawer.replaceChildren(el('div', {class: 'row'}, el('b', {}, 'Section'), ...legend, el('span', {class: 'grow'}), csv, svg,
      el('button', {type: 'button', 'aria-label': 'close the section', onclick: () => this.clear()}, '×')), this.graph.element);
    this.drawer.hidden = false;
  }
  // The point of the section that is nearest to the pointer is marked in its graph.
  hover(p) {
    if (this.tool !== 'section' || !this.graph || !this.section || !p) return;
    let best = -1;
    let least = Infinity;
    this.section.forEach((q, i) => {
      const d = Math.hypot(q.col - p.col, q.row - p.row);
      if (d < least) [least, best] = [d, i];
    });
    const reach = Math.max(3, (12 * this.scene.metresPerPixel()) / this.surface.ground.scale(p.col, p.row).x);
    this.graph.mark(least < reach ? best : null);
    this.marked = least < reach ? this.section[best] : null;
    this.scene.draw();
  }

  tellArea(rows) {
    const {corners, surface} = this;
    if (corners.length < 3) {
      rows.push(['corners', `${corners.length}, three are needed`]);
      return;
    }
    const v = volumeOf(surface, corners, this.areaLevel());
    rows.push(['area', areaText(areaOf(surface.ground, corners))]);
    if (v.cells === 0) return;
    const unit = surface.facts.unit;
    rows.push(['cells', `${numeral(v.cells, 0)}, ${areaText(v.area)}${v.voids ? `; ${numeral(v.voids, 0)} voids` : ''}`]);
    rows.push(['heights', `${numeral(v.low, this.decimals)} to ${numeral(v.high, this.decimals)}, mean ${numeral(v.mean, this.decimals)} ${unit}`]);
    rows.push([`above ${numeral(this.areaLevel(), this.decimals)} ${unit}`, volumeText(v.above)]);
    rows.push([`below ${numeral(this.areaLevel(), this.decimals)} ${unit}`, volumeText(v.below)]);
  }
  areaLevel() {
    if (this.level !== null) return this.level;
    if (this.scene.water !== null) return this.scene.water;
    return Math.round(Math.min(...this.corners.map((p) => p.height)) * 100) / 100;
  }
  levelField() {
    const field = el('input', {type: 'number', step: 'any', value: this.areaLevel(), onchange: () => {
      this.level = field.value === '' ? null : Number(field.value);
      this.tell();
    }});
    return el('label', {class: 'row'}, 'Level ', field, this.surface.facts.unit);
  }

  paint(c) {
    const {scene, corners, surface} = this;
    const [accent, paper] = [tone('accent'), tone('paper')];
    if (corners.length > 1) {
      const closed = this.tool === 'area' ? [...corners, corners[0]] : corners;
      const s = surface.ground.scale(surface.cols / 2, surface.rows / 2);
      let length = 0;
      for (let i = 0; i + 1 < closed.length; ++i) length += surface.ground.distance(closed[i], closed[i + 1]);
      const points = this.tool === 'section' && this.section ? this.section : sectionOf(surface, closed, Math.max(Math.min(s.x, s.y), length / 400));
      c.lineJoin = 'round';
      c.beginPath();
      let pen = false;
      for (const p of points) {
        const z = p.value ?? p.height;
        const at = Number.isNaN(z) ? null : scene.screen(p.col, p.row, z);
        if (at && pen) c.lineTo(at.x, at.y);
        else if (at) c.moveTo(at.x, at.y);
        pen = at !== null;
      }
      outlined(c, 5, accent, paper);
    }
    for (const p of this.marked ? [...corners, {...this.marked, height: this.marked.value, strong: true}] : corners) {
      const at = scene.screen(p.col, p.row, p.height);
      if (!at) continue;
      c.beginPath();
      c.arc(at.x, at.y, p.strong ? 7 : 5, 0, 7);
      c.fillStyle = accent;
      c.strokeStyle = paper;
      c.lineWidth = 2;
      c.fill();
      c.stroke();
    }
  }
}
