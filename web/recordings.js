// Recordings, for keepers: what visitors were shown, listed and played again.
import { $, make, note, now, on, clock, tell } from '/page.js';
import { closeVisit, showEmpty } from '/visit.js';
import { TextPane } from '/text.js';

const kinds = { message: 1, picture: 2, anew: 3, end: 4 };
const stillLimit = 1500;  // milliseconds in which nothing happens, at most, while they are left out

$('recordings').addEventListener('click', () => now.live?.send('{"recordings":true}'));
on('recordings', list => {
  document.querySelector('#recordingcard')?.remove();
  const card = make('div', { class: 'card', id: 'recordingcard', role: 'dialog' });
  card.style.width = 'min(760px, calc(100% - 24px))';
  card.append(make('h3', {}, 'Recordings'));
  const table = make('table', {}, make('tr', {}, ...['Machine', 'Begun', 'Took', 'Who was there', 'Size', ''].map(t => make('th', {}, t))));
  for (const r of list)
    table.append(make('tr', {}, make('td', {}, `${r.machine} · ${r.label}`), make('td', {}, new Date(r.began * 1000).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' })),
      make('td', {}, r.lasted < 0 ? 'not ended' : length(r.lasted)), make('td', {}, r.people || '—'), make('td', {}, `${Math.ceil(r.bytes / 1000)} kB`),
      make('td', {}, make('button', { class: 'plain play', onclick: () => { card.remove(); closeVisit(); tell('roster'); new Player(r); } }, 'play'), removeButton(r))));
  if (list.length) card.append(table);
  else card.append(make('p', { class: 'quiet' }, 'None. A machine or group is recorded when its sheet says so, on the page Gateway.'));
  card.append(make('div', { class: 'row' }, make('button', { onclick: () => card.remove() }, 'Close')));
  $('stage').append(card);
});
function removeButton(r) {
  const button = make('button', { class: 'plain' }, 'remove');
  button.addEventListener('click', () => {
    if (button.dataset.sure) return now.live.send(JSON.stringify({ removeRecording: r.file }));
    button.dataset.sure = '1';
    button.textContent = 'sure? it is gone then';
    setTimeout(() => { delete button.dataset.sure; button.textContent = 'remove'; }, 5000);
  });
  return button;
}
function length(ms) {
  const s = Math.floor(ms / 1000), two = n => String(n).padStart(2, '0');
  return s >= 3600 ? `${Math.floor(s / 3600)}:${two(Math.floor(s / 60) % 60)}:${two(s % 60)}` : `${Math.floor(s / 60)}:${two(s % 60)}`;
}

/// The records of a file, fetched a part at a time.
async function* recordsOf(file) {
  let bytes = new Uint8Array(0), from = 0, headRead = false, over = false;
  const more = async () => {
    const answer = await fetch(`/recording?file=${encodeURIComponent(file)}&from=${from}`);
    if (answer.status !== 200) throw new Error((await answer.json().catch(() => ({}))).error || 'the gate does not give it');
    const part = new Uint8Array(await answer.arrayBuffer());
    over = part.length === 0;
    from += part.length;
    const both = new Uint8Array(bytes.length + part.length);
    both.set(bytes);
    both.set(part, bytes.length);
    bytes = both;
  };
  for (;;) {
    if (!headRead) {
      const line = bytes.indexOf(10);
      if (line >= 0) { bytes = bytes.subarray(line + 1); headRead = true; continue; }
    } else if (bytes.length >= 9) {
      const view = new DataView(bytes.buffer, bytes.byteOffset), size = view.getUint32(5, true);
      if (bytes.length >= 9 + size) {
        yield { kind: bytes[0], ms: view.getUint32(1, true), data: bytes.slice(9, 9 + size) };
        bytes = bytes.subarray(9 + size);
        continue;
      }
    }
    if (over) return;
    await more();
  }
}

class Player {
  constructor(facts) {
    this.facts = facts;
    this.machine = { name: facts.machine };
    this.at = this.turn = 0;
    this.speed = 1;
    this.paused = false;
    this.people = make('span', {});
    this.figures = make('span', {});
    this.time = make('span', { class: 'quiet' });
    this.place = make('input', { type: 'range', class: 'player', min: '0', max: String(Math.max(facts.lasted, 1)), value: '0', 'aria-label': 'Place in the recording' });
    this.place.addEventListener('change', () => this.run(Number(this.place.value)));
    this.pauseButton = make('button', { class: 'plain', onclick: () => this.pause(!this.paused) }, 'pause');
    const speed = make('select', { 'aria-label': 'How fast', onchange: () => { this.speed = Number(speed.value); this.wake?.(); } }, ...[1, 2, 8].map(n => make('option', { value: n }, n === 1 ? 'as it was' : `${n} times as fast`)));
    this.stills = make('input', { type: 'checkbox', checked: true, id: 'stills' });
    this.face = make('div', { class: 'face', tabindex: '0', 'aria-label': `What was shown of ${facts.machine}` });
    this.face.addEventListener('keydown', e => { if (e.key === ' ') { e.preventDefault(); this.pause(!this.paused); } });
    $('stage').replaceChildren(make('div', { class: 'bar' }, make('b', {}, facts.machine), make('span', { class: 'quiet wide' }, `${facts.label}, recorded ${new Date(facts.began * 1000).toLocaleDateString()} ${clock(facts.began)}`), this.place, this.time, this.pauseButton, speed, make('label', { class: 'wide', for: 'stills' }, this.stills, ' leave out stillness'), make('button', { class: 'plain', onclick: () => this.close() }, 'put away')),
      this.face, make('div', { class: 'foot' }, this.figures, make('span', { class: 'fill' }), this.people));
    document.body.classList.add('opened');
    this.watcher = new ResizeObserver(() => this.fit());
    this.watcher.observe(this.face);
    this.run(0);
  }
  // What the text pane asks of a visit.
  drives() { return false; }
  send() {}
  pause(on) { this.paused = on; this.pauseButton.textContent = on ? 'go on' : 'pause'; this.wake?.(); }
  close() { ++this.turn; this.wake?.(); this.stopPicture(); this.watcher.disconnect(); showEmpty(); }
  async run(from) {
    const turn = ++this.turn;
    this.wake?.();
    this.at = 0;
    this.face.replaceChildren();
    this.stopPicture();
    this.text = null;
    try {
      for await (const record of recordsOf(this.facts.file)) {
        if (record.ms > from) await this.waitFor(record.ms - Math.max(this.at, from), turn);
        if (turn !== this.turn || !this.face.isConnected) return;
        this.at = Math.max(record.ms, from);
        this.show(record);
        this.place.value = String(this.at);
        this.time.textContent = this.facts.lasted < 0 ? length(this.at) : `${length(this.at)} of ${length(this.facts.lasted)}`;
      }
      this.figures.textContent = this.facts.lasted < 0 ? 'It goes on no further: it was cut off, or is under way.' : 'The end.';
      this.figures.dataset.over = '1';
    } catch (e) {
      note('The recording: ' + e.message);
    }
  }
  async waitFor(ms, turn) {
    let left = this.stills.checked ? Math.min(ms, stillLimit) : ms;
    while (turn === this.turn && (left > 0 || this.paused)) {
      const since = performance.now(), speed = this.speed;
      await new Promise(done => { this.wake = done; if (!this.paused) setTimeout(done, left / speed); });
      if (!this.paused) left -= (performance.now() - since) * speed;
    }
  }
  show({ kind, data }) {
    if (kind === kinds.anew) return this.startPicture();
    if (kind === kinds.picture) return this.worker?.postMessage({ feed: data.buffer }, [data.buffer]);
    if (kind !== kinds.message) return;
    const m = JSON.parse(new TextDecoder().decode(data));
    if (m.people) this.people.textContent = m.people.map(p => p.who + (p.drives ? ' (drives)' : '')).join(', ');
    if (m.text) {
      if (!this.text) { this.text = new TextPane(this); this.text.start(); }
      this.text.take(m.text);
    }
  }
  startPicture() {
    this.stopPicture();
    this.canvas = make('canvas', { id: 'screen' });
    this.face.replaceChildren(this.canvas);
    const offscreen = this.canvas.transferControlToOffscreen();
    this.worker = new Worker('/picture.js');
    this.worker.onmessage = ({ data }) => {
      if (data.size) { this.size = data.size; this.fit(); }
      if (data.trouble) note('The recording: ' + data.trouble);
    };
    this.worker.postMessage({ canvas: offscreen }, [offscreen]);
  }
  stopPicture() { this.worker?.terminate(); this.worker = null; }
  fit() {
    if (!this.canvas || !this.size) return;
    const room = this.face.getBoundingClientRect(), [w, h] = this.size, scale = Math.min(room.width / w, room.height / h, 1);
    this.canvas.style.transform = `translate(${Math.max(0, (room.width - w * scale) / 2)}px,${Math.max(0, (room.height - h * scale) / 2)}px) scale(${scale})`;
  }
}
