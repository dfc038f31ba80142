// The picture of a visit: its canvas and decoder, which of the machine's screens show and where, windows of
// their own for screens, pointer and keys.
import { make, note, socketUrl } from '/page.js';
import { symOf, symOfPoint } from '/keys.js';

const fits = { fit: 'fit', actual: 'one to one', follow: 'follow' };
const keptExact = () => localStorage.getItem('picture') === 'exact';
const buttonsOf = b => (b & 1) | (b & 4) >> 1 | (b & 2) << 1;
const mine = e => !e.target.closest('.card,.ask,.keys');

export class ScreenPane {
  constructor(visit) {
    this.visit = visit;
    this.face = visit.face;
    this.size = [0, 0];
    this.fitMode = 'fit';
    this.screens = [];
    this.offers = [];
    this.canResize = false;
    this.only = -1;
    this.windows = new Map();
    this.held = new Set();
    listenTo(this.face, this, e => this.at(e));
    this.watcher = new ResizeObserver(() => { this.place(); this.followSoon(); });
    this.watcher.observe(this.face);
  }
  start(url) {
    if (this.worker) return;
    this.canvas = make('canvas', { id: 'screen' });
    this.frame = make('div', { class: 'frame' }, this.canvas);
    this.face.prepend(this.frame);
    const offscreen = this.canvas.transferControlToOffscreen();
    this.worker = new Worker('/picture.js');
    this.worker.onmessage = ({ data }) => this.take(data);
    this.worker.postMessage({ canvas: offscreen, url, exact: keptExact() }, [offscreen]);
    this.place();
    if (!this.face.querySelector('.card')) this.face.focus();
  }
  stop() {
    for (const own of this.windows.values()) own.close();
    if (!this.worker) return;
    this.worker.postMessage({ close: true });
    const old = this.worker;
    this.worker = null;
    setTimeout(() => old.terminate(), 200);
    this.frame.remove();
  }
  take(data) {
    const visit = this.visit;
    if (data.size) { this.size = data.size; this.place(); }
    if (data.keyMs) visit.figures.dataset.keyMs = data.keyMs;
    if (data.figures) this.showFigures(data.figures);
    if ('cursor' in data) this.pointerShape(data.cursor);
    if ('closed' in data && this.worker) { this.stop(); visit.pictureEnded(); }
    if (data.trouble) note('The picture: ' + data.trouble);
  }
  showFigures(f) {
    const words = this.visit.figures;
    words.textContent = `${f.w} × ${f.h} · ${f.frames} fps    ${(f.bytesIn / 1000).toFixed(0)} kB/s` + (f.keyMs ? `    key to picture ${f.keyMs.toFixed(0)} ms` : '');
    words.dataset.level = f.level;
    words.dataset.lossy = f.lossy;
    this.visit.exactButton.hidden = false;
    this.visit.exactButton.textContent = keptExact() ? 'picture: always exact' : f.level ? `picture: coarser while it moves${f.busy ? ' (the gate is busy)' : ' (slow line)'}` : 'picture: exact';
  }
  toggleExact() {
    localStorage.setItem('picture', keptExact() ? 'line' : 'exact');
    this.worker?.postMessage({ exact: keptExact() });
    note(keptExact() ? 'The picture stays exact, however slow the line is.' : 'On a slow line the picture is coarser while it moves, and exact once it is still.');
  }
  pointerShape(shape) {
    const style = shape && this.visit.drives() ? `url(data:image/png;base64,${shape[0]}) ${shape[1]} ${shape[2]}, default` : '';
    this.face.style.cursor = style;
    for (const own of this.windows.values()) own.face.style.cursor = style;
  }

  // -- where it lies
  area() { return this.screens[this.only] || [0, 0, ...this.size]; }
  place() {
    if (!this.canvas || !this.size[0]) return;
    const [x, y, w, h] = this.area(), room = this.face.getBoundingClientRect(), actual = this.fitMode === 'actual';
    this.face.classList.toggle('actual', actual);
    this.scale = actual ? 1 : Math.min(room.width / w, room.height / h, 1);
    const style = this.frame.style;
    style.width = w * this.scale + 'px';
    style.height = h * this.scale + 'px';
    style.left = actual ? '' : Math.max(0, (room.width - w * this.scale) / 2) + 'px';
    style.top = actual ? '' : Math.max(0, (room.height - h * this.scale) / 2) + 'px';
    this.canvas.style.transform = `translate(${-x * this.scale}px,${-y * this.scale}px) scale(${this.scale})`;
  }
  at(e) {
    if (!this.frame) return [0, 0];
    const box = this.frame.getBoundingClientRect(), [x, y, w, h] = this.area();
    const inside = (value, most) => Math.max(0, Math.min(most - 1, Math.floor(value / this.scale)));
    return [x + inside(e.clientX - box.left, w), y + inside(e.clientY - box.top, h)];
  }
  nextFit() {
    const order = this.canResize && this.visit.drives() ? ['fit', 'actual', 'follow'] : ['fit', 'actual'];
    this.fitMode = order[(order.indexOf(this.fitMode) + 1) % order.length];
    this.visit.fitButton.textContent = fits[this.fitMode];
    this.place();
    this.followSoon();
  }
  /// The machine's picture takes the window's size, once that is settled.
  followSoon() {
    clearTimeout(this.following);
    if (this.fitMode !== 'follow' || !this.visit.drives()) return;
    this.following = setTimeout(() => {
      const wish = [this.face.clientWidth & ~1, this.face.clientHeight & ~1];
      if (wish[0] > 200 && wish[1] > 150 && wish.join() !== this.size.join()) this.worker?.postMessage({ resize: wish });
    }, 300);
  }

  // -- several screens
  takeScreens({ screens, offers, resize }) {
    this.screens = screens.length > 1 ? screens : [];
    this.offers = offers;
    this.canResize = resize;
    if (this.only >= this.screens.length) this.only = -1;
    for (const [index, own] of this.windows) {
      if (!this.screens[index]) own.close(); else own.moved(this.screens[index]);
    }
    this.visit.screensButton.hidden = this.screens.length < 2 && offers.length < 2;
    this.place();
    if (this.face.querySelector('[data-card="screens"]')) this.paintScreens();
  }
  showScreens() { this.face.querySelector('[data-card="screens"]') ? this.visit.uncard('screens') : this.paintScreens(); }
  paintScreens() {
    this.visit.card('screens', card => {
      card.append(make('h3', {}, 'Screens'));
      const row = (text, ...more) => card.append(make('p', { class: 'screenrow' }, make('span', {}, text), ...more));
      const choose = n => make('button', { class: this.only === n ? 'own' : '', 'aria-pressed': String(this.only === n), 'data-only': n, onclick: () => { this.only = n; this.place(); this.visit.uncard('screens'); this.face.focus(); } }, 'show here');
      row('all of them', choose(-1));
      this.screens.forEach(([, , w, h], n) => row(`screen ${n + 1}, ${w} × ${h}`, choose(n), make('button', { 'data-own': n, onclick: () => this.openOwn(n) }, 'own window')));
      for (const o of this.offers)
        row(`screen ${o.id + 1} is ${o.on ? 'on' : 'off'}`, make('button', { 'data-switch': o.id, disabled: !this.visit.drives() || o.on && this.offers.filter(x => x.on).length < 2, onclick: () => this.visit.send({ screen: { id: o.id, on: !o.on } }) }, o.on ? 'switch off' : 'switch on'));
      card.append(make('div', { class: 'row' }, make('button', { onclick: () => this.visit.uncard('screens') }, 'Close')));
    });
  }
  openOwn(index) {
    this.visit.uncard('screens');
    const [, , w, h] = this.screens[index];
    const opened = window.open('/screen.html', '', `popup,width=${w},height=${h}`);
    if (!opened) return note('The browser does not let this page open a window.');
    this.windows.get(index)?.close();
    this.windows.set(index, new OwnWindow(this, index, opened));
  }

  // -- what one does there
  pointer(buttons, [x, y]) { this.worker?.postMessage({ pointer: [buttons, x, y] }); }
  key(down, sym) {
    if (!sym) return;
    down ? this.held.add(sym) : this.held.delete(sym);
    this.worker?.postMessage({ key: [down, sym, performance.timeOrigin + performance.now()] });
  }
  releaseAll() { for (const sym of [...this.held]) this.key(false, sym); }
  typeText(text) { for (const c of text) { const sym = symOfPoint(c.codePointAt(0)); this.key(true, sym); this.key(false, sym); } }
}

/// One screen in a window of its own: the same decoder paints it, and pointer and keys go the same way.
class OwnWindow {
  constructor(pane, index, opened) {
    this.pane = pane;
    this.index = index;
    this.window = opened;
    this.area = pane.screens[index];
    this.begin = e => { if (e.source === opened && e.data === 'screen is there') this.fill(); };
    window.addEventListener('message', this.begin);
    this.face = make('div', { class: 'face', tabindex: '0' });
  }
  fill() {
    window.removeEventListener('message', this.begin);
    const page = this.window.document, { pane, index } = this;
    page.title = `${pane.visit.machine.name}, screen ${index + 1}`;
    this.face = page.getElementById('face');
    this.canvas = page.createElement('canvas');
    [this.canvas.width, this.canvas.height] = this.area.slice(2);
    const offscreen = this.canvas.transferControlToOffscreen();
    this.face.replaceChildren(this.canvas);
    listenTo(this.face, pane, e => this.at(e));
    this.window.addEventListener('resize', () => this.place());
    this.window.addEventListener('pagehide', () => this.gone());
    pane.worker?.postMessage({ extra: { id: index, canvas: offscreen, area: this.area } }, [offscreen]);
    this.place();
    this.face.focus();
  }
  moved(area) {
    if (area.join() === this.area.join()) return;
    this.area = area;
    this.pane.worker?.postMessage({ extra: { id: this.index, area } });
    this.place();
  }
  place() {
    const [, , w, h] = this.area, scale = Math.min(this.window.innerWidth / w, this.window.innerHeight / h, 1);
    this.scale = scale;
    this.left = Math.max(0, (this.window.innerWidth - w * scale) / 2);
    this.top = Math.max(0, (this.window.innerHeight - h * scale) / 2);
    this.canvas.style.transform = `translate(${this.left}px,${this.top}px) scale(${scale})`;
  }
  at(e) {
    const [x, y, w, h] = this.area, inside = (value, most) => Math.max(0, Math.min(most - 1, Math.floor(value / this.scale)));
    return [x + inside(e.clientX - this.left, w), y + inside(e.clientY - this.top, h)];
  }
  gone() {
    window.removeEventListener('message', this.begin);
    this.pane.releaseAll();
    this.pane.worker?.postMessage({ extraGone: this.index });
    if (this.pane.windows.get(this.index) === this) this.pane.windows.delete(this.index);
  }
  close() { this.gone(); this.window.close(); }
}

/// Pointer and keys over a face go to the machine; `at` says where in the picture an event is.
function listenTo(f, pane, at) {
  f.addEventListener('pointerdown', e => {
    if (!mine(e) || !pane.worker) return;
    f.focus({ preventScroll: true });
    if (e.pointerType === 'touch') { pane.touch = { at: at(e), moved: false, y: e.clientY, x: e.clientX, id: e.pointerId }; return; }
    e.preventDefault();
    f.setPointerCapture(e.pointerId);
    pane.pointer(buttonsOf(e.buttons), at(e));
  });
  f.addEventListener('pointermove', e => {
    if (!pane.worker) return;
    if (e.pointerType === 'touch') {
      const t = pane.touch;
      if (!t || t.id !== e.pointerId) return;
      if (!t.moved && Math.hypot(e.clientX - t.x, e.clientY - t.y) < 8) return;
      if (!t.moved) { t.moved = true; pane.pointer(1, t.at); }
      pane.pointer(1, at(e));
      return;
    }
    if (mine(e)) pane.pointer(buttonsOf(e.buttons), at(e));
  });
  f.addEventListener('pointerup', e => {
    if (!pane.worker) return;
    if (e.pointerType === 'touch') {
      const t = pane.touch, place = at(e);
      pane.touch = null;
      if (!t) return;
      if (!t.moved) { pane.pointer(0, place); pane.pointer(1, place); }
      pane.pointer(0, place);
      return;
    }
    if (mine(e)) pane.pointer(buttonsOf(e.buttons), at(e));
  });
  f.addEventListener('contextmenu', e => { if (pane.worker && mine(e)) e.preventDefault(); });
  f.addEventListener('wheel', e => {
    if (!pane.worker || !mine(e) || pane.fitMode === 'actual' && !pane.visit.drives()) return;
    e.preventDefault();
    const place = at(e), bit = e.deltaY < 0 ? 8 : e.deltaY > 0 ? 16 : e.deltaX < 0 ? 32 : 64;
    pane.pointer(bit, place);
    pane.pointer(0, place);
  }, { passive: false });
  f.addEventListener('keydown', e => {
    // An input method has the key; what it makes of it comes when it is done.
    if (!mine(e) || !pane.worker || e.isComposing || e.keyCode === 229) return;
    e.preventDefault();
    pane.key(true, symOf(e));
  });
  f.addEventListener('keyup', e => {
    if (!mine(e) || !pane.worker) return;
    e.preventDefault();
    pane.key(false, symOf(e));
  });
  f.addEventListener('focusout', e => { if (!f.contains(e.relatedTarget)) pane.releaseAll(); });
}
