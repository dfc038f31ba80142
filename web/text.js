// The text of a visit, from the rows of the gateway's own terminal.
import { make } from '/page.js';

const sixteen = ['#2b3238', '#d0604e', '#5bb8a8', '#e0b04c', '#6f9fc8', '#b48ab8', '#6fc3c0', '#c9c4ba', '#5a646c', '#e58a7b', '#86d3c5', '#efc97a', '#96bde0', '#cfaed2', '#97dcda', '#f4f1ea'];
function colour(c) {
  if (c == null) return '';
  if (typeof c === 'string') return c;
  if (c < 16) return sixteen[c];
  if (c >= 232) { const g = 8 + 10 * (c - 232); return `rgb(${g},${g},${g})`; }
  const n = c - 16, level = v => v ? 55 + 40 * v : 0;
  return `rgb(${level(Math.floor(n / 36))},${level(Math.floor(n / 6) % 6)},${level(n % 6)})`;
}
const sidedKey = k => ['Shift', 'Control', 'Alt', 'Meta', 'AltGraph', 'CapsLock'].includes(k);

export class TextPane {
  constructor(visit) {
    this.visit = visit;
    this.face = visit.face;
    this.rows = [];
  }
  start() {
    this.face.querySelector('.term')?.remove();
    this.term = make('div', { class: 'term', 'aria-label': `Text of ${this.visit.machine.name}`, role: 'log' });
    this.face.prepend(this.term);
    this.rows = [];
    this.older = [];
    this.first = null;
    this.term.addEventListener('scroll', () => { if (this.term.scrollTop < 40 && this.first > this.oldest && !this.asking) { this.asking = true; const from = Math.max(this.oldest, this.first - 200); this.visit.send({ above: [from, this.first - from] }); } });
    this.fit();
    if (!this.face.querySelector('.card')) this.face.focus();
  }
  fit() {
    if (!this.term || !this.visit.drives()) return;
    const probe = make('span', {}, 'M'.repeat(20));
    this.term.append(probe);
    const box = probe.getBoundingClientRect(), room = this.face.getBoundingClientRect();
    probe.remove();
    if (!box.width) return;
    const size = [Math.floor((room.height - 12) / box.height), Math.floor((room.width - 26) / (box.width / 20))];
    if (size.join() === this.asked) return;
    this.asked = size.join();
    this.visit.send({ resize: size });
  }
  paintRow(runs) {
    const row = document.createElement('div');
    for (const [text, fg, bg, attrs] of runs) {
      const span = document.createElement('span');
      span.textContent = text;
      let ink = colour(fg), ground = colour(bg);
      if (attrs & 64) [ink, ground] = [ground || '#191d21', ink || '#e9e4da'];
      if (ink) span.style.color = ink;
      if (ground) span.style.background = ground;
      if (attrs & 1) span.style.fontWeight = '700';
      if (attrs & 2) span.style.fontStyle = 'italic';
      if (attrs & 28) span.style.textDecoration = 'underline';
      if (attrs & 128) span.style.textDecoration = 'line-through';
      if (attrs & 512) span.style.opacity = '.6';
      if (attrs & 1024) span.style.visibility = 'hidden';
      row.append(span);
    }
    return row;
  }
  take(t) {
    if (!this.term) return;
    const atEnd = this.term.scrollTop + this.term.clientHeight >= this.term.scrollHeight - 30;
    // Rows that the screen has let go of stay above it.
    if (this.first === null) this.first = t.top;
    if (this.top !== undefined && t.top > this.top && this.rows.length) {
      const gone = Math.min(t.top - this.top, this.rows.length);
      for (let i = 0; i < gone; ++i) this.term.insertBefore(this.rows[i].cloneNode(true), this.rows[0]);
      while (this.term.childElementCount > 5000) { this.term.firstElementChild.remove(); ++this.first; }
    }
    this.top = t.top;
    this.oldest = t.oldest;
    while (this.rows.length > t.rows) this.rows.pop().remove();
    while (this.rows.length < t.rows) { const row = make('div'); this.term.append(row); this.rows.push(row); }
    for (const [n, runs] of Object.entries(t.lines)) {
      const row = this.paintRow(runs);
      row.runs = runs;
      this.rows[n]?.replaceWith(row);
      this.rows[n] = row;
    }
    this.paintCursor(t.cursor);
    this.visit.figures.textContent = `${t.columns} columns, ${t.rows} rows`;
    if (atEnd) this.term.scrollTop = this.term.scrollHeight;
  }
  paintCursor(place) {
    if (this.cursorRow && this.rows.includes(this.cursorRow)) { const plain = this.paintRow(this.cursorRow.runs || []); plain.runs = this.cursorRow.runs; this.rows[this.rows.indexOf(this.cursorRow)] = plain; this.cursorRow.replaceWith(plain); }
    this.cursorRow = null;
    if (!place || !this.rows[place[0]]) return;
    const runs = this.rows[place[0]].runs || [], cells = [];
    for (const [text, ...look] of runs) for (const c of text) cells.push([c, ...look]);
    while (cells.length <= place[1]) cells.push([' ']);
    const before = cells.slice(0, place[1]), under = cells[place[1]], after = cells.slice(place[1] + 1);
    const row = this.paintRow(before);
    const block = make('span', { class: 'cursor' }, under[0]);
    row.append(block, ...this.paintRow(after).childNodes);
    row.runs = runs;
    this.rows[place[0]].replaceWith(row);
    this.rows[place[0]] = row;
    this.cursorRow = row;
  }
  takeAbove(a) {
    this.asking = false;
    if (!this.term || a.first >= this.first) return;
    const height = this.term.scrollHeight;
    const rows = a.lines.slice(0, this.first - a.first).map(r => this.paintRow(r));
    this.term.prepend(...rows);
    this.first = a.first;
    this.term.scrollTop += this.term.scrollHeight - height;
  }
  key(e) {
    if (e.isComposing || e.key === 'Dead' || sidedKey(e.key)) return;
    if ((e.ctrlKey && e.shiftKey || e.metaKey) && 'cv'.includes(e.key.toLowerCase())) return;
    if (e.ctrlKey && e.key === 'c' && String(getSelection())) return;
    const points = [...e.key];
    if (points.length > 1 && !/^(Enter|Tab|Backspace|Escape|Arrow\w+|Insert|Delete|Home|End|Page\w+|F\d+)$/.test(e.key)) return;
    e.preventDefault();
    if (points.length === 1 && !e.ctrlKey && !e.altKey) this.visit.send({ type: e.key });
    else this.visit.send({ textKey: { key: e.key, shift: e.shiftKey, alt: e.altKey, ctrl: e.ctrlKey } });
    this.term.scrollTop = this.term.scrollHeight;
  }
}
