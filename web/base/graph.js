// A graph of sections: values over distance, drawn as SVG, with the values under the pointer.
import { el } from './dom.js';
import { numeral, ticks } from './numbers.js';

const MARGIN = {left: 64, right: 16, top: 14, bottom: 38};

// `series`: [{name, points: [{distance, value}]}], all along one line. `onPoint(i)` is called with the number of the point
// of the first series under the pointer, or null. Gives {element, mark(i), svg()}.
export function sectionGraph(series, {unit, width, height, decimals, title, onPoint}) {
  const all = series.flatMap((s) => s.points.map((p) => p.value)).filter((v) => !Number.isNaN(v));
  const long = series[0].points[series[0].points.length - 1].distance;
  let low = Math.min(...all.slice(0, 1));
  let high = low;
  for (const v of all) {
    low = Math.min(low, v);
    high = Math.max(high, v);
  }
  const room = Math.max((high - low) * 0.06, 1e-3);
  [low, high] = all.length ? [low - room, high + room] : [0, 1];
  const across = width - MARGIN.left - MARGIN.right;
  const down = height - MARGIN.top - MARGIN.bottom;
  const x = (d) => MARGIN.left + (d / long) * across;
  const y = (v) => MARGIN.top + ((high - v) / (high - low)) * down;
  const root = el('svg', {class: 'graph', viewBox: `0 0 ${width} ${height}`, width, height, role: 'img', 'aria-label': title});
  root.append(...axes());
  series.forEach((s, i) => root.append(el('path', {class: `line line${i}`, d: pathOf(s.points), fill: 'none'})));
  const cursor = el('g', {class: 'cursor', visibility: 'hidden'});
  const upright = el('line', {y1: MARGIN.top, y2: MARGIN.top + down});
  const words = el('text', {y: MARGIN.top + 12});
  const dots = series.map((s, i) => el('circle', {r: 3.5, class: `dot line${i}`}));
  cursor.append(upright, words, ...dots);
  root.append(cursor);

  function axes() {
    const parts = [];
    for (const v of ticks(low, high, 5)) {
      parts.push(el('line', {class: 'grid', x1: MARGIN.left, x2: width - MARGIN.right, y1: y(v), y2: y(v)}));
      parts.push(el('text', {x: MARGIN.left - 8, y: y(v) + 4, 'text-anchor': 'end'}, numeral(v, decimalsFor(high - low))));
    }
    for (const d of ticks(0, long, Math.max(3, Math.round(across / 110)))) {
      parts.push(el('line', {class: 'grid', x1: x(d), x2: x(d), y1: MARGIN.top, y2: MARGIN.top + down}));
      parts.push(el('text', {x: x(d), y: height - 20, 'text-anchor': 'middle'}, numeral(d, decimalsFor(long))));
    }
    const ratio = across / long / (down / (high - low));
    parts.push(el('text', {x: MARGIN.left + across / 2, y: height - 4, 'text-anchor': 'middle', class: 'axis'},
      `distance in ${unit}; heights drawn ${numeral(1 / ratio, 1)} times as high as long`));
    parts.push(el('text', {x: 4, y: MARGIN.top + 4, class: 'axis'}, unit));
    return parts;
  }
  function pathOf(points) {
    let d = '';
    let pen = false;
    for (const p of points) {
      if (Number.isNaN(p.value)) {
        pen = false;
        continue;
      }
      d += `${pen ? 'L' : 'M'}${x(p.distance).toFixed(1)} ${y(p.value).toFixed(1)}`;
      pen = true;
    }
    return d;
  }
  function nearest(distance) {
    const points = series[0].points;
    let a = 0;
    let b = points.length - 1;
    while (b - a > 1) {
      const m = (a + b) >> 1;
      if (points[m].distance <= distance) a = m;
      else b = m;
    }
    return distance - points[a].distance <= points[b].distance - distance ? a : b;
  }
  function mark(i) {
    if (i === null) {
      cursor.setAttribute('visibility', 'hidden');
      return;
    }
    const p = series[0].points[i];
    const at = x(p.distance);
    cursor.setAttribute('visibility', 'visible');
    upright.setAttribute('x1', at);
    upright.setAttribute('x2', at);
    const values = series.map((s) => numeral(s.points[i].value, decimals)).join(' | ');
    words.textContent = `${numeral(p.distance, 2)}: ${values} ${unit}`;
    const right = at > width / 2;
    words.setAttribute('x', right ? at - 8 : at + 8);
    words.setAttribute('text-anchor', right ? 'end' : 'start');
    series.forEach((s, k) => {
      const v = s.points[i].value;
      dots[k].setAttribute('visibility', Number.isNaN(v) ? 'hidden' : 'inherit');
      if (!Number.isNaN(v)) {
        dots[k].setAttribute('cx', at);
        dots[k].setAttribute('cy', y(v));
      }
    });
  }
  root.addEventListener('pointermove', (e) => {
    const box = root.getBoundingClientRect();
    const distance = (((e.clientX - box.left) * (width / box.width) - MARGIN.left) / across) * long;
    const i = distance < -0.02 * long || distance > 1.02 * long ? null : nearest(Math.min(Math.max(distance, 0), long));
    mark(i);
    onPoint?.(i);
  });
  root.addEventListener('pointerleave', () => {
    mark(null);
    onPoint?.(null);
  });
  return {element: root, mark, svg: () => alone(root, width, height)};
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
