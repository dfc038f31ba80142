// Decodes the machine's picture (RFB 3.8, RFC 6143) away from the page's own thread and paints it on a canvas.
// Raw, copied, and tight rectangles; inflating and JPEG are the browser's. Exact, unless the line is too slow for it.
let socket = null, canvas, context, waiting = [], have = 0, wake = null, ended = false;
let bytesIn = 0, bytesTaken = 0, frames = 0, keyAt = 0, keyMs = 0;
const streams = [null, null, null, null];
const extras = new Map();  // screens that are shown in windows of their own, too

// How coarse the picture may be while it moves: exact, then JPEG of falling quality with stronger packing (RFB's
// pseudo-encodings for both). What came coarse is asked for again, exact, a strip at a time, once it is still.
const coarse = [[], [-25, -251], [-28, -249], [-31, -248]];
const stillAfter = 400, slowUpdate = 250, quickUpdate = 60, stripRows = 64;
let level = 0, exactOnly = false, busy = false, slow = 0, quick = 0, raisedAt = 0, saidLevel = 0;
let waited = 0, lossy = null, refining = null, stillTimer = 0;

function arrived(data) {
  const part = new Uint8Array(data);
  bytesIn += part.length;
  waiting.push(part);
  have += part.length;
  if (wake) wake();
}
async function take(n) {
  while (have < n) {
    if (ended) throw new Error('ended');
    const since = performance.now();
    await new Promise(r => { wake = r; });
    wake = null;
    waited += performance.now() - since;
  }
  have -= n;
  bytesTaken += n;
  if (waiting.length && waiting[0].length >= n) {
    const first = waiting[0], out = first.subarray(0, n);
    if (first.length === n) waiting.shift(); else waiting[0] = first.subarray(n);
    return out;
  }
  const out = new Uint8Array(n);
  for (let at = 0; at < n;) {
    const part = waiting[0], m = Math.min(part.length, n - at);
    out.set(part.subarray(0, m), at);
    at += m;
    if (m === part.length) waiting.shift(); else waiting[0] = part.subarray(m);
  }
  return out;
}
const view = b => new DataView(b.buffer, b.byteOffset, b.byteLength);
const u8 = async () => (await take(1))[0];
const u16 = async () => view(await take(2)).getUint16(0);
const u32 = async () => view(await take(4)).getUint32(0);
const send = (...bytes) => { if (socket && socket.readyState === 1) socket.send(Uint8Array.from(bytes)); };
const hi = n => n >> 8 & 255, lo = n => n & 255;

// One inflate stream of a tight encoder: what goes in comes out flushed at each rectangle's end.
class Inflate {
  constructor() {
    const d = new DecompressionStream('deflate');
    this.writer = d.writable.getWriter();
    this.reader = d.readable.getReader();
    this.parts = [];
    this.have = 0;
  }
  async take(packed, n) {
    this.writer.write(packed.slice()).catch(() => {});
    while (this.have < n) {
      const { value, done } = await this.reader.read();
      if (done) throw new Error('the packed picture ended early');
      this.parts.push(value);
      this.have += value.length;
    }
    const out = new Uint8Array(n);
    for (let at = 0; at < n;) {
      const part = this.parts[0], m = Math.min(part.length, n - at);
      out.set(part.subarray(0, m), at);
      at += m;
      if (m === part.length) this.parts.shift(); else this.parts[0] = part.subarray(m);
    }
    this.have -= n;
    return out;
  }
}

function putRgb(x, y, w, h, rgb) {
  const image = context.createImageData(w, h), out = image.data;
  for (let i = 0, j = 0; i < rgb.length; i += 3, j += 4) {
    out[j] = rgb[i]; out[j + 1] = rgb[i + 1]; out[j + 2] = rgb[i + 2]; out[j + 3] = 255;
  }
  context.putImageData(image, x, y);
}
async function raw(x, y, w, h) {
  const data = await take(w * h * 4), image = context.createImageData(w, h), out = image.data;
  out.set(data);
  for (let i = 3; i < out.length; i += 4) out[i] = 255;
  context.putImageData(image, x, y);
}
async function compactLength() {
  let b = await u8(), n = b & 127;
  if (b & 128) {
    b = await u8();
    n |= (b & 127) << 7;
    if (b & 128) n |= await u8() << 14;
  }
  return n;
}
async function tight(x, y, w, h) {
  const control = await u8();
  for (let i = 0; i < 4; ++i) if (control >> i & 1) streams[i] = null;
  const kind = control >> 4;
  if (kind === 8) {
    const c = await take(3);
    context.fillStyle = `rgb(${c[0]},${c[1]},${c[2]})`;
    context.fillRect(x, y, w, h);
    return;
  }
  if (kind === 9) {
    const bytes = (await take(await compactLength())).slice();
    const picture = await createImageBitmap(new Blob([bytes], { type: 'image/jpeg' }));
    context.drawImage(picture, x, y);
    picture.close();
    isLossy(x, y, w, h);
    return;
  }
  if (kind > 7) throw new Error('unknown tight rectangle');
  const filter = kind & 4 ? await u8() : 0;
  let palette = null, size = w * h * 3;
  if (filter === 1) {
    palette = (await take(((await u8()) + 1) * 3)).slice();
    size = palette.length <= 6 ? ((w + 7) >> 3) * h : w * h;
  }
  let data;
  if (size < 12) data = await take(size);
  else {
    const packed = await take(await compactLength()), id = kind & 3;
    streams[id] ??= new Inflate();
    data = await streams[id].take(packed, size);
  }
  if (palette) {
    const rgb = new Uint8Array(w * h * 3), two = palette.length <= 6, stride = two ? (w + 7) >> 3 : w;
    for (let row = 0, o = 0; row < h; ++row)
      for (let col = 0; col < w; ++col, o += 3) {
        const n = 3 * (two ? data[row * stride + (col >> 3)] >> (7 - (col & 7)) & 1 : data[row * stride + col]);
        rgb[o] = palette[n]; rgb[o + 1] = palette[n + 1]; rgb[o + 2] = palette[n + 2];
      }
    data = rgb;
  } else if (filter === 2) {
    const rgb = new Uint8Array(size), stride = w * 3;
    for (let row = 0; row < h; ++row)
      for (let i = 0; i < stride; ++i) {
        const at = row * stride + i;
        const left = i >= 3 ? rgb[at - 3] : 0, up = row ? rgb[at - stride] : 0, corner = i >= 3 && row ? rgb[at - stride - 3] : 0;
        rgb[at] = data[at] + Math.max(0, Math.min(255, left + up - corner)) & 255;
      }
    data = rgb;
  }
  putRgb(x, y, w, h, data);
}
function resized(w, h) {
  // Setting the size clears a canvas; what was there stays until it is painted over.
  const old = canvas.width && canvas.height ? context.getImageData(0, 0, Math.min(canvas.width, w), Math.min(canvas.height, h)) : null;
  canvas.width = w; canvas.height = h;
  if (old) context.putImageData(old, 0, 0);
  postMessage({ size: [w, h] });
}
async function cursor(hotX, hotY, w, h) {
  const pixels = (await take(w * h * 4)).slice(), mask = (await take(((w + 7) >> 3) * h)).slice();
  if (!w || !h) return postMessage({ cursor: null });
  const image = new ImageData(w, h), stride = (w + 7) >> 3;
  for (let y = 0; y < h; ++y)
    for (let x = 0; x < w; ++x) {
      const i = 4 * (y * w + x), on = mask[y * stride + (x >> 3)] >> (7 - (x & 7)) & 1;
      image.data[i] = pixels[i]; image.data[i + 1] = pixels[i + 1]; image.data[i + 2] = pixels[i + 2];
      image.data[i + 3] = on ? 255 : 0;
    }
  const small = new OffscreenCanvas(w, h);
  small.getContext('2d').putImageData(image, 0, 0);
  const blob = await small.convertToBlob({ type: 'image/png' });
  const bytes = new Uint8Array(await blob.arrayBuffer());
  let text = '';
  for (const b of bytes) text += String.fromCharCode(b);
  postMessage({ cursor: [btoa(text), hotX, hotY] });
}
function isLossy(x, y, w, h) {
  const old = lossy || [x, y, x + w, y + h];
  lossy = [Math.min(old[0], x), Math.min(old[1], y), Math.max(old[2], x + w), Math.max(old[3], y + h)];
}
function paintExtras() {
  for (const { context: into, area: [x, y, w, h] } of extras.values()) into?.drawImage(canvas, x, y, w, h, 0, 0, w, h);
}
/// `ms` is how long an update of so many bytes was waited for after it had begun: the line's doing.
function judge(ms, bytes) {
  if (bytes > 2000) {
    slow = ms > slowUpdate ? slow + 1 : 0;
    quick = ms < quickUpdate ? quick + 1 : 0;
  }
  const now = performance.now();
  if ((slow >= 2 || ms > 1000) && level < coarse.length - 1) { ++level; slow = quick = 0; raisedAt = now; }
  else if (quick >= 20 && level > 0 && now - raisedAt > 5000) { --level; quick = 0; raisedAt = now; }
}
const levelNow = () => exactOnly ? 0 : Math.max(level, busy ? 1 : 0);
function sayKinds(exact) {
  saidLevel = exact ? 0 : levelNow();
  const kinds = [7, 1, 0, -239, -223, -308, -224, ...coarse[saidLevel]], list = [2, 0, 0, kinds.length];
  for (const k of kinds) list.push(k >> 24 & 255, k >> 16 & 255, k >> 8 & 255, k & 255);
  send(...list);
}
/// The picture is still: what came coarse comes exact, in strips, so that whatever moves meanwhile is not kept
/// waiting long.
function refine() {
  if (!lossy || refining) return;
  const [left, top, right, bottom] = lossy, end = Math.min(bottom, top + stripRows);
  refining = [left, top, right, end];
  lossy = end < bottom ? [left, end, right, bottom] : null;
  sayKinds(true);
  send(3, 0, hi(left), lo(left), hi(top), lo(top), hi(right - left), lo(right - left), hi(end - top), lo(end - top));
}
function afterUpdate(touched) {
  clearTimeout(stillTimer);
  if (refining) {
    const [left, top, right, end] = refining;
    const came = touched.some(([x, y, w, h]) => x < right && x + w > left && y < end && y + h > top);
    const moves = touched.some(([x, y, w, h]) => x < left || y < top || x + w > right || y + h > end);
    if (!came) return;
    refining = null;
    if (lossy && !moves) return refine();
    if (levelNow()) sayKinds(false);
  } else if (saidLevel !== levelNow()) sayKinds(false);
  if (lossy) stillTimer = setTimeout(refine, stillAfter);
}
async function update() {
  const before = bytesTaken, touched = [];
  waited = 0;
  await take(1);
  let count = await u16();
  while (count-- > 0) {
    const x = await u16(), y = await u16(), w = await u16(), h = await u16(), kind = await u32() | 0;
    if (kind >= 0) touched.push([x, y, w, h]);
    if (kind === 0) await raw(x, y, w, h);
    else if (kind === 1) {
      const fromX = await u16(), fromY = await u16();
      context.drawImage(canvas, fromX, fromY, w, h, x, y, w, h);
    } else if (kind === 7) await tight(x, y, w, h);
    else if (kind === -239) await cursor(x, y, w, h);
    else if (kind === -223) resized(w, h);
    else if (kind === -308) {
      const screens = await u8();
      await take(3 + 16 * screens);
      resized(w, h);
    } else if (kind === -224) break;
    else throw new Error('a rectangle of a kind nobody asked for: ' + kind);
  }
  ++frames;
  judge(waited, bytesTaken - before);
  paintExtras();
  afterUpdate(touched);
  if (keyAt) { keyMs = performance.timeOrigin + performance.now() - keyAt; keyAt = 0; postMessage({ keyMs }); }
  request(1);
}
function request(incremental) {
  send(3, incremental, 0, 0, 0, 0, hi(canvas.width), lo(canvas.width), hi(canvas.height), lo(canvas.height));
}
async function run() {
  await take(12);
  if (socket) socket.send(new TextEncoder().encode('RFB 003.008\n'));
  await take(await u8());
  send(1);
  if (await u32()) throw new Error('the picture was refused');
  send(1);
  const w = await u16(), h = await u16();
  await take(16);
  await take(await u32());
  resized(w, h);
  // 32 bits, red lowest: as the canvas has it.
  send(0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 0, 8, 16, 0, 0, 0);
  sayKinds(false);
  request(0);
  for (;;) {
    const kind = await u8();
    if (kind === 0) await update();
    else if (kind === 1) { await take(3); await u16(); await take(6 * await u16()); }
    else if (kind === 2) continue;
    else if (kind === 3) { await take(3); await take(await u32()); }
    else throw new Error('a message of a kind nobody asked for: ' + kind);
  }
}
function begin(data) {
  canvas = data.canvas;
  context = canvas.getContext('2d', { alpha: false });
  exactOnly = !!data.exact;
  if (data.url) {
    socket = new WebSocket(data.url);
    socket.binaryType = 'arraybuffer';
    socket.onmessage = e => arrived(e.data);
    socket.onclose = e => { ended = true; if (wake) wake(); postMessage({ closed: e.reason || '' }); };
  }
  run().catch(e => { postMessage({ trouble: ended ? '' : e.message }); socket?.close(); });
  if (!socket) return;
  setInterval(() => {
    postMessage({ figures: { bytesIn, frames, keyMs, w: canvas.width, h: canvas.height, level: levelNow(), busy: busy && !level, lossy: !!(lossy || refining) } });
    bytesIn = frames = 0;
  }, 1000);
}
function showExtra({ id, canvas: into, area }) {
  const extra = extras.get(id) || {};
  if (into) Object.assign(extra, { canvas: into, context: into.getContext('2d', { alpha: false }) });
  extra.area = area;
  [extra.canvas.width, extra.canvas.height] = area.slice(2);
  extras.set(id, extra);
  paintExtras();
}
function wantSize([w, h]) { send(251, 0, hi(w), lo(w), hi(h), lo(h), 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, hi(w), lo(w), hi(h), lo(h), 0, 0, 0, 0); }
onmessage = ({ data }) => {
  if (data.canvas) begin(data);
  if (data.feed) arrived(data.feed);
  if (data.key) { const [down, sym, at] = data.key; if (down) keyAt = at; send(4, down ? 1 : 0, 0, 0, sym >> 24 & 255, sym >> 16 & 255, hi(sym), lo(sym)); }
  if (data.pointer) { const [b, x, y] = data.pointer; send(5, b, hi(x), lo(x), hi(y), lo(y)); }
  if (data.resize) wantSize(data.resize);
  if (data.extra) showExtra(data.extra);
  if ('extraGone' in data) extras.delete(data.extraGone);
  if ('exact' in data && !data.canvas) { exactOnly = data.exact; if (!refining) { sayKinds(false); if (lossy) refine(); } }
  if ('busy' in data) { busy = data.busy; if (!refining && !busy && lossy) { clearTimeout(stillTimer); stillTimer = setTimeout(refine, stillAfter); } }
  if (data.refresh) request(0);
  if (data.close) socket?.close();
};
