// Areas as they are typed and as they are drawn: the words that --area takes.

const EARTH = 6371008.8; // mean radius: circles are drawn with it, the tool makes them exactly

// 31°03'W, 37 33 27 S, -31.05: degrees; null for what is none. `axis`: 'x' or 'y' where letters say it, else ''.
export function degreesFrom(text) {
  const plain = text.trim().replace(/[’′]/g, "'").replace(/[”″]/g, '"').replace(/−/g, '-');
  const found = /^([+-]?\d+(?:\.\d+)?)\s*(?:[°d]\s*(?:(\d+(?:\.\d+)?)\s*')?\s*(?:(\d+(?:\.\d+)?)\s*")?)?\s*([NSEWnsew]?)$/.exec(plain) ??
    /^([+-]?\d+)[\s°]+(\d+(?:\.\d+)?)(?:[\s']+(\d+(?:\.\d+)?))?["']?\s*([NSEWnsew]?)$/.exec(plain);
  if (!found) return null;
  const [, d, m, s, letter] = found;
  const minutes = Number(m ?? 0);
  const seconds = Number(s ?? 0);
  if (minutes >= 60 || seconds >= 60 || (letter && d.startsWith('-'))) return null;
  let value = Math.abs(Number(d)) + minutes / 60 + seconds / 3600;
  const l = letter.toUpperCase();
  if (d.startsWith('-') || l === 'S' || l === 'W') value = -value;
  return {value, axis: l === 'E' || l === 'W' ? 'x' : l === 'N' || l === 'S' ? 'y' : ''};
}

// "500m", "1.2km", "1000ft": metres; a bare number is metres. Null for what is none.
export function metresFrom(text) {
  const found = /^(\d+(?:\.\d+)?)\s*(m|km|ft|)$/.exec(text.trim());
  if (!found || !(Number(found[1]) > 0)) return null;
  return Number(found[1]) * {m: 1, km: 1000, ft: 0.3048, '': 1}[found[2]];
}

// {kind: 'box', box} or {kind: 'circle', x, y, radius}; an Error says what is wrong. Boxes and circles in degrees.
export function areaFrom(text) {
  if (text.startsWith('{')) return {kind: 'polygon', shape: shapeFrom(text)};
  const [kind, rest] = [text.slice(0, text.indexOf(':')).trim(), text.slice(text.indexOf(':') + 1)];
  if (text.includes('@')) throw new Error('areas of another CRS are for the command line');
  const parts = rest.split(',');
  if (kind === 'box' && parts.length === 4) {
    const v = parts.map(degreesFrom);
    if (v.includes(null)) throw new Error(`${parts[v.indexOf(null)].trim() || 'nothing'} is no longitude or latitude`);
    const pairs = [[v[0], v[1]], [v[2], v[3]]].map(([a, b]) => (a.axis === 'y' || b.axis === 'x' ? [b.value, a.value] : [a.value, b.value]));
    const lettered = v.some((d) => d.axis !== '');
    const [[w, s], [e, n]] = pairs;
    const box = lettered ? [Math.min(w, e), Math.min(s, n), Math.max(w, e), Math.max(s, n)] : [w, s, e < w ? e + 360 : e, n];
    if (!(box[3] > box[1]) || !(box[2] > box[0])) throw new Error('a box is west, south, east, north, and has a size');
    if (Math.abs(box[1]) > 90 || Math.abs(box[3]) > 90 || Math.abs(box[0]) > 360) throw new Error('that is not on the globe');
    return {kind, box};
  }
  if (kind === 'circle' && parts.length === 3) {
    const [a, b] = parts.slice(0, 2).map(degreesFrom);
    const radius = metresFrom(parts[2]);
    if (!a || !b) throw new Error('a circle begins with the longitude and latitude of its middle');
    if (radius === null) throw new Error(`${parts[2].trim() || 'nothing'} is no radius: write for instance 500m`);
    const [x, y] = a.axis === 'y' || b.axis === 'x' ? [b.value, a.value] : [a.value, b.value];
    if (Math.abs(y) > 90 || Math.abs(x) > 360) throw new Error('that is not on the globe');
    return {kind, x, y, radius};
  }
  throw new Error('write box:W,S,E,N or circle:LON,LAT,RADIUS, draw on the map, or paste GeoJSON');
}

// The polygons of GeoJSON, of a geometry, a feature or a collection of them.
function shapeFrom(text) {
  let whole;
  try {
    whole = JSON.parse(text);
  } catch {
    throw new Error('that is no GeoJSON');
  }
  const found = [];
  const visit = (g) => {
    if (g?.type === 'Polygon') found.push(g.coordinates);
    else if (g?.type === 'MultiPolygon') found.push(...g.coordinates);
    else if (g?.type === 'Feature') visit(g.geometry);
    else if (g?.type === 'FeatureCollection') g.features.forEach(visit);
    else if (g?.type === 'GeometryCollection') g.geometries.forEach(visit);
  };
  visit(whole);
  const good = (p) => Array.isArray(p) && Number.isFinite(p[0]) && Number.isFinite(p[1]) && Math.abs(p[0]) <= 360 && Math.abs(p[1]) <= 90;
  const ring = (r) => Array.isArray(r) && r.length >= 4 && r.every(good);
  if (found.length === 0) throw new Error('there is no polygon in it');
  if (!found.every((rings) => Array.isArray(rings) && rings.length > 0 && rings.every(ring))) {
    throw new Error('its polygons are no rings of longitude and latitude');
  }
  return found.map((rings) => rings.map((r) => r.map(([x, y]) => [x, y])));
}

const six = (v) => String(Math.round(v * 1e6) / 1e6);

// What --area takes; a polygon lies in a file.
export function areaText(area) {
  if (area.kind === 'box') return `box:${area.box.map(six).join(',')}`;
  if (area.kind === 'circle') return `circle:${six(area.x)},${six(area.y)},${Math.round(area.radius * 10) / 10}m`;
  return 'area.geojson';
}

// Polygons of rings of [longitude, latitude].
export function shapeOf(area) {
  if (area.kind === 'box') {
    const [w, s, e, n] = area.box;
    return [[[[w, s], [e, s], [e, n], [w, n], [w, s]]]];
  }
  if (area.kind === 'circle') {
    const ring = [];
    for (let i = 0; i <= 72; ++i) {
      const turn = (i % 72) * 5 * (Math.PI / 180);
      ring.push([area.x + ((area.radius * Math.sin(turn)) / (EARTH * Math.cos((area.y * Math.PI) / 180))) * (180 / Math.PI),
        area.y + ((area.radius * Math.cos(turn)) / EARTH) * (180 / Math.PI)]);
    }
    return [[ring]];
  }
  return area.shape;
}
export function geojsonOf(area) {
  return {type: 'FeatureCollection', features: [{type: 'Feature', properties: {name: 'area'},
    geometry: {type: 'MultiPolygon', coordinates: shapeOf(area).map((rings) => rings.map((r) => r.map(([x, y]) => [Number(six(x)), Number(six(y))])))}}]};
}
export function metresBetween(ax, ay, bx, by) {
  const r = Math.PI / 180;
  const h = Math.sin(((by - ay) * r) / 2) ** 2 + Math.cos(ay * r) * Math.cos(by * r) * Math.sin(((bx - ax) * r) / 2) ** 2;
  return 2 * EARTH * Math.asin(Math.min(1, Math.sqrt(h)));
}
// A word of a command line as a shell takes it.
export function quoted(word) {
  return /^[\w@%+=:,./-]+$/.test(word) && word !== '' ? word : `'${word.replaceAll("'", "'\\''")}'`;
}
