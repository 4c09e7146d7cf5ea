// What a page of surfaces has to show and to tell: its surfaces, what they can be coloured by, what a place can be asked.
import { Colours, overRange, quantile } from './colours.js';
import { el } from './dom.js';
import { Ground } from './ground.js';
import { decimalsOf, degreesText, numeral, ticks } from './numbers.js';
import { bytesOf, readPlane } from './planes.js';
import { Surface } from './surface.js';

// {surfaces, drapes, questions}; `textOf(id)` gives a part of the page.
export async function pageData(facts, textOf) {
  const ground = new Ground(facts.frame);
  const planes = await Promise.all(facts.planes.map((p) => readPlane(p, bytesOf(textOf(p.id)))));
  const surfaces = facts.surfaces.map((s) => new Surface(ground, planes[s.plane], s));
  const pictures = await Promise.all(facts.drapes.filter((d) => d.picture).map(loaded));
  const questions = facts.drapes.filter((d) => !d.picture).map((d) => asked(facts.planes[d.plane], planes[d.plane], d.label));
  return {surfaces, drapes: [...drapesOf(facts, surfaces, planes), ...pictures], questions};
}

// Something to colour cells by. Values and colours are made when they are first shown.
class Drape {
  // `values()`: of all cells, nothing for plain white; `colours(values)`; `on(surface)`: values of another surface of the
  // same heights, where they can be had from it.
  constructor(label, unit, smooth, values, colours, on = null) {
    Object.assign(this, {label, unit, smooth, makeValues: values, makeColours: colours, on});
  }
  // As paint, for a part by finer cells: what cannot be had from its heights is that of the cell around.
  paintFiner(finer, whole) {
    const {surface, col, row, times} = finer;
    let values = null;
    if (this.on) values = this.on(surface);
    else if (this.makeValues) {
      values = new Float32Array(surface.values.length);
      for (let r = 0; r < surface.rows; ++r) {
        const from = Math.min(whole.rows - 1, Math.floor(row + (r + 0.5) / times)) * whole.cols;
        for (let c = 0; c < surface.cols; ++c) {
          values[r * surface.cols + c] = this.values[from + Math.min(whole.cols - 1, Math.floor(col + (c + 0.5) / times))];
        }
      }
    }
    return this.paint(values ? {values} : null, surface.values);
  }
  get values() {
    if (this.made === undefined) this.made = this.makeValues?.() ?? null;
    return this.made;
  }
  inColours() {
    if (this.found === undefined) this.found = this.makeColours?.(this.values) ?? null;
    return this.found;
  }
  // Four bytes a cell. `own`: a surface whose heights are coloured instead; `under`: heights below, whose voids stay open
  // and whose cells without a value of ours are grey.
  paint(own, under) {
    const values = own ? own.values : this.values;
    if (!values) {
      const white = new Uint8Array(4 * under.length);
      under.forEach((z, i) => white.fill(Number.isNaN(z) ? 0 : 255, 4 * i, 4 * i + 4));
      return white;
    }
    const bytes = this.inColours().paint(values);
    for (let i = 0; i < under.length; ++i) {
      if (Number.isNaN(under[i])) bytes[4 * i + 3] = 0;
      else if (bytes[4 * i + 3] === 0) bytes.set([190, 190, 190, 255], 4 * i);
    }
    return bytes;
  }
}

// A picture over the surface, of its own pixels; where it does not reach the surface is grey.
class Picture {
  constructor(label, bytes, cols, rows) {
    Object.assign(this, {label, bytes, cols, rows, unit: '', smooth: true});
  }
  inColours() {
    return null;
  }
  paint() {
    return this.bytes;
  }
  paintFiner({surface, col, row, times}, whole) {
    const out = new Uint32Array(surface.cols * surface.rows);
    const from = new Uint32Array(this.bytes.buffer);
    const [across, down] = [this.cols / whole.cols, this.rows / whole.rows];
    for (let r = 0; r < surface.rows; ++r) {
      const y = Math.min(this.rows - 1, Math.floor((row + (r + 0.5) / times) * down));
      for (let c = 0; c < surface.cols; ++c) {
        out[r * surface.cols + c] = from[y * this.cols + Math.min(this.cols - 1, Math.floor((col + (c + 0.5) / times) * across))];
      }
    }
    return new Uint8Array(out.buffer);
  }
}
async function loaded(facts) {
  const image = new Image();
  image.src = facts.picture;
  await image.decode();
  const canvas = el('canvas', {width: facts.cols, height: facts.rows});
  const c = canvas.getContext('2d');
  c.fillStyle = '#bebebe';
  c.fillRect(0, 0, facts.cols, facts.rows);
  c.drawImage(image, 0, 0);
  return new Picture(facts.label, new Uint8Array(c.getImageData(0, 0, facts.cols, facts.rows).data.buffer), facts.cols, facts.rows);
}

// The heights of each surface come first, in their order.
function drapesOf(facts, surfaces, planes) {
  const first = surfaces[0];
  const unit = facts.surfaces[0].unit;
  const list = facts.surfaces.map((s, i) => new Drape(surfaces.length > 1 ? `heights: ${s.label}` : 'heights', unit, true,
    () => surfaces[i].values, () => new Colours(facts.planes[s.plane]), i === 0 ? (surface) => surface.values : null));
  list.push(new Drape('light alone', '', true, null, null));
  const slopes = (surface) => {
    const {east, north} = surface.gradients();
    return east.map((p, i) => (Math.atan(Math.hypot(p, north[i])) * 180) / Math.PI);
  };
  const aspects = (surface) => {
    const {east, north} = surface.gradients();
    return east.map((p, i) => (p === 0 && north[i] === 0 ? NaN : ((Math.atan2(-p, -north[i]) * 180) / Math.PI + 360) % 360));
  };
  list.push(new Drape('slope', '°', true, () => slopes(first),
    (values) => new Colours(overRange(facts.ramps.plain, 0, Math.max(quantile(values, 0.998), 1))), slopes));
  list.push(new Drape('aspect', '°', false, () => aspects(first), () => new Colours({ramp: facts.ramps.directions}), aspects));
  for (let i = 1; i < surfaces.length; ++i) {
    list.push(new Drape(`difference: ${facts.surfaces[0].label} less ${facts.surfaces[i].label}`, unit, true,
      () => first.values.map((z, k) => z - surfaces[i].values[k]),
      (values) => new Colours(overRange(facts.ramps.differences, -reach(values), reach(values)))));
  }
  for (const d of facts.drapes.filter((one) => !one.picture)) {
    const plane = facts.planes[d.plane];
    list.push(new Drape(d.label, plane.unit, !plane.classes, () => planes[d.plane], () => new Colours(plane)));
  }
  return list;
}
function reach(values) {
  return Math.max(quantile(values.map(Math.abs), 0.99), 1e-3);
}

// What a plane says of a place.
function asked(plane, values, label) {
  const decimals = decimalsOf(plane.step);
  return {label, at: (col, row) => {
    const c = Math.min(Math.floor(col), plane.cols - 1);
    const r = Math.min(Math.floor(row), plane.rows - 1);
    const v = values[r * plane.cols + c];
    if (Number.isNaN(v)) return 'void';
    const kind = plane.classes?.find((k) => k.code === v);
    if (kind) return [kind.name, kind.how, kind.survey, kind.date].filter(Boolean).join(', ');
    return `${numeral(v, decimals)} ${plane.unit}`;
  }};
}

// What is known of a place: pairs of name and value. `questions`: what is asked besides heights and slope.
export function atPlace(facts, surfaces, questions, {col, row}) {
  const surface = surfaces[0];
  const {ground} = surface;
  const {unit, heights} = facts.surfaces[0];
  const decimals = decimalsOf(facts.planes[facts.surfaces[0].plane].step);
  const told = (z) => (Number.isNaN(z) ? 'void' : `${numeral(z, decimals)} ${unit}`);
  const height = surface.height(col, row);
  const rows = [['height', `${told(height)}${heights && !Number.isNaN(height) ? `, ${heights}` : ''}`]];
  surfaces.slice(1).forEach((other, i) => rows.push([facts.surfaces[i + 1].label, told(other.height(col, row))]));
  const lie = surface.slope(col, row);
  if (lie) rows.push(['slope', `${numeral(lie.slope, 1)}°${lie.aspect === null ? ', level' : `, falls to ${numeral(lie.aspect, 0)}°`}`]);
  for (const q of questions) rows.push([q.label, q.at(col, row)]);
  const at = ground.place(col, row);
  rows.push(['place', ground.degrees ? `${numeral(at.x, 7)}, ${numeral(at.y, 7)}` : `${numeral(at.x, 2)}, ${numeral(at.y, 2)} ${ground.crs}`]);
  const globe = ground.globe(col, row);
  if (globe) rows.push(['', `${degreesText(globe.lat, ['N', 'S'])}, ${degreesText(globe.lon, ['E', 'W'])}`]);
  return rows;
}

// A bar with its numbers, or a list of classes.
export function legend(box, colours, unit) {
  box.replaceChildren();
  if (!colours) return;
  if (colours.classes) {
    for (const k of colours.classes) {
      const swatch = el('i', {class: 'swatch'});
      swatch.style.background = `#${k.colour}`;
      box.append(el('li', {}, swatch, [k.name, k.how].filter(Boolean).join(', ')));
    }
    return;
  }
  const bar = el('canvas', {class: 'bar', width: 240, height: 1, 'aria-hidden': 'true'});
  const c = bar.getContext('2d');
  const line = c.createImageData(240, 1);
  for (let i = 0; i < 240; ++i) {
    const v = colours.low + ((colours.high - colours.low) * (i + 0.5)) / 240;
    line.data.set([...colours.of(colours.powers ? 10 ** v : v), 255], 4 * i);
  }
  c.putImageData(line, 0, 0);
  const numbers = el('div', {class: 'numbers'});
  const list = ticks(colours.low, colours.high, 4);
  for (const v of list) {
    const at = el('span', {}, numeral(colours.powers ? 10 ** v : v, Math.min(decimalsOf(list.length > 1 ? list[1] - list[0] : 1), 3)));
    at.style.left = `${(100 * (v - colours.low)) / (colours.high - colours.low || 1)}%`;
    numbers.append(at);
  }
  box.append(el('li', {class: 'ramp'}, bar, numbers), el('li', {class: 'unit'}, colours.powers ? 'by powers of ten' : unit));
}
