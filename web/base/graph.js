// A graph of sections: values over distance, drawn as SVG, with the values under the pointer.
import { el } from './dom.js';
import { numeral, ticks } from './numbers.js';

const MARGIN = {left: 64, right: 16, top: 14, bottom: 38};

// `series`: [{name, points: [{distance, value}]}], all along one line. `onPoint(i)` is called with the number of the point
// of the first series under the pointer, or null.
export class SectionGraph {
  constructor(series, {unit, width, height, decimals, title, onPoint}) {
    Object.assign(this, {series, unit, width, height, decimals, onPoint});
    this.long = series[0].points[series[0].points.length - 1].distance;
    [this.low, this.high] = rangeOf(series);
    this.across = width - MARGIN.left - MARGIN.right;
    this.down = height - MARGIN.top - MARGIN.bottom;
    this.element = el('svg', {class: 'graph', viewBox: `0 0 ${width} ${height}`, width, height, role: 'img', 'aria-label': title}, ...this.axes(),
      ...series.map((s, i) => el('path', {class: `line line${i}`, d: this.pathOf(s.points), fill: 'none'})), this.makeCursor());
    this.element.addEventListener('pointermove', (e) => this.point(e));
    this.element.addEventListener('pointerleave', () => this.tell(null));
  }
  x(distance) {
    return MARGIN.left + (distance / this.long) * this.across;
  }
  y(value) {
    return MARGIN.top + ((this.high - value) / (this.high - this.low)) * this.down;
  }

  axes() {
    const {low, high, long, across, down, width, height, unit} = this;
    const parts = [];
    for (const v of ticks(low, high, 5)) {
      parts.push(el('line', {class: 'grid', x1: MARGIN.left, x2: width - MARGIN.right, y1: this.y(v), y2: this.y(v)}),
        el('text', {x: MARGIN.left - 8, y: this.y(v) + 4, 'text-anchor': 'end'}, numeral(v, decimalsFor(high - low))));
    }
    for (const d of ticks(0, long, Math.max(3, Math.round(across / 110)))) {
      parts.push(el('line', {class: 'grid', x1: this.x(d), x2: this.x(d), y1: MARGIN.top, y2: MARGIN.top + down}),
        el('text', {x: this.x(d), y: height - 20, 'text-anchor': 'middle'}, numeral(d, decimalsFor(long))));
    }
    const times = (long / across) * (down / (high - low));
    parts.push(el('text', {x: MARGIN.left + across / 2, y: height - 4, 'text-anchor': 'middle', class: 'axis'},
      `distance in ${unit}; heights drawn ${numeral(times, 1)} times as high as long`),
    el('text', {x: 4, y: MARGIN.top + 4, class: 'axis'}, unit));
    return parts;
  }
  pathOf(points) {
    let d = '';
    let pen = false;
    for (const p of points) {
      const known = !Number.isNaN(p.value);
      if (known) d += `${pen ? 'L' : 'M'}${this.x(p.distance).toFixed(1)} ${this.y(p.value).toFixed(1)}`;
      pen = known;
    }
    return d;
  }
  makeCursor() {
    this.upright = el('line', {y1: MARGIN.top, y2: MARGIN.top + this.down});
    this.words = el('text', {y: MARGIN.top + 12});
    this.dots = this.series.map((s, i) => el('circle', {r: 3.5, class: `dot line${i}`}));
    this.cursor = el('g', {class: 'cursor', visibility: 'hidden'}, this.upright, this.words, ...this.dots);
    return this.cursor;
  }

  // The point of the first series that is nearest to a distance.
  nearest(distance) {
    const {points} = this.series[0];
    let a = 0;
    let b = points.length - 1;
    while (b - a > 1) {
      const m = (a + b) >> 1;
      if (points[m].distance <= distance) a = m;
      else b = m;
    }
    return distance - points[a].distance <= points[b].distance - distance ? a : b;
  }
  mark(i) {
    this.cursor.setAttribute('visibility', i === null ? 'hidden' : 'visible');
    if (i === null) return;
    const {distance} = this.series[0].points[i];
    const at = this.x(distance);
    this.upright.setAttribute('x1', at);
    this.upright.setAttribute('x2', at);
    const values = this.series.map((s) => s.points[i].value);
    this.words.textContent = `${numeral(distance, 2)}: ${values.map((v) => numeral(v, this.decimals)).join(' | ')} ${this.unit}`;
    const right = at > this.width / 2;
    this.words.setAttribute('x', right ? at - 8 : at + 8);
    this.words.setAttribute('text-anchor', right ? 'end' : 'start');
    values.forEach((v, k) => {
      this.dots[k].setAttribute('visibility', Number.isNaN(v) ? 'hidden' : 'inherit');
      if (Number.isNaN(v)) return;
      this.dots[k].setAttribute('cx', at);
      this.dots[k].setAttribute('cy', this.y(v));
    });
  }
  tell(i) {
    this.mark(i);
    this.onPoint?.(i);
  }
  point(e) {
    const box = this.element.getBoundingClientRect();
    const distance = (((e.clientX - box.left) * (this.width / box.width) - MARGIN.left) / this.across) * this.long;
    const beside = 0.02 * this.long;
    this.tell(distance < -beside || distance > this.long + beside ? null : this.nearest(Math.min(Math.max(distance, 0), this.long)));
  }
  // The text of a file of its own.
  svg() {
    return alone(this.element, this.width, this.height);
  }
}

// Of all that is known, with some room; 0 to 1 where nothing is.
function rangeOf(series) {
  let [low, high] = [Infinity, -Infinity];
  for (const s of series) {
    for (const {value} of s.points) {
      if (value < low) low = value;
      if (value > high) high = value;
    }
  }
  if (!(low <= high)) return [0, 1];
  const room = Math.max((high - low) * 0.06, 1e-3);
  return [low - room, high + room];
}

function decimalsFor(span) {
  return Math.max(0, Math.min(6, Math.ceil(1 - Math.log10(span || 1))));
}

// A file of its own: with the look that the page's style gives it.
function alone(root, width, height) {
  const copy = root.cloneNode(true);
  copy.querySelector('.cursor').remove();
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg');
  const style = document.createElementNS('http://www.w3.org/2000/svg', 'style');
  style.textContent =
    'text{font:12px "DejaVu Sans",sans-serif;fill:#20262b}.grid{stroke:#d8dde1}.line{stroke-width:1.8}.line0{stroke:#7a4b1e}.line1{stroke:#0b6478}.line2{stroke:#8a2c5c}.line3{stroke:#4d6b1f}';
  const paper = document.createElementNS('http://www.w3.org/2000/svg', 'rect');
  paper.setAttribute('width', width);
  paper.setAttribute('height', height);
  paper.setAttribute('fill', '#fff');
  copy.prepend(style, paper);
  return `<?xml version="1.0" encoding="UTF-8"?>\n${new XMLSerializer().serializeToString(copy)}\n`;
}
