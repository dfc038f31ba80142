// The page: signing in, the machines, one open machine with its picture or text, who else is there, passes.
import { symOf, symOfPoint } from '/keys.js';

const $ = id => document.getElementById(id);
const make = (name, attributes = {}, ...children) => {
  const e = document.createElement(name);
  for (const [k, v] of Object.entries(attributes)) {
    if (k.startsWith('on')) e.addEventListener(k.slice(2), v);
    else if (k === 'class') e.className = v;
    else if (v === true) e.setAttribute(k, '');
    else if (v !== false && v != null) e.setAttribute(k, v);
  }
  e.append(...children.filter(c => c != null));
  return e;
};
let me = null, machines = [], live = null, visit = null, passes = null, liveDelay = 1000;

function note(text) {
  const n = make('div', {}, text);
  $('notes').append(n);
  setTimeout(() => n.remove(), 6000);
}
async function post(path, body) {
  const answer = await fetch(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) });
  return { status: answer.status, body: await answer.json().catch(() => ({})) };
}
const socketUrl = path => `wss://${location.host}${path}`;

// ---- signing in

function showSignIn(why) {
  me = null;
  closeVisit();
  if (live) { live.onclose = null; live.close(); live = null; }
  $('top').hidden = $('main').hidden = true;
  $('signin').hidden = false;
  $('signbad').textContent = why || '';
  $('name').focus();
}
$('signin').addEventListener('submit', async e => {
  e.preventDefault();
  const { status, body } = await post('/sign-in', { name: $('name').value, password: $('password').value, code: $('code').value });
  $('password').value = $('code').value = '';
  if (status === 200) return signedIn(body);
  $('signbad').textContent = body.error || 'The gate does not answer.';
  $('password').focus();
});
$('out').addEventListener('click', async () => { await post('/sign-out', {}); showSignIn('You signed out.'); });

function signedIn(who) {
  me = who;
  $('signin').hidden = true;
  $('top').hidden = $('main').hidden = false;
  $('gate').textContent = who.gate;
  $('me').textContent = who.pass ? `${who.name} · pass` : who.name;
  $('passes').hidden = who.pass || who.role === 'look';
  $('go').hidden = who.pass;
  document.title = who.gate + ' · Kettle Window';
  if (!visit) showEmpty();
  connectLive();
}
function connectLive() {
  live = new WebSocket(socketUrl('/live'));
  const ping = setInterval(() => live.readyState === 1 && live.send('{"ping":0}'), 15000);
  live.onopen = () => { liveDelay = 1000; };
  live.onmessage = e => takeLive(JSON.parse(e.data));
  live.onclose = async () => {
    clearInterval(ping);
    live = null;
    if (!me) return;
    note('The gate is not reached. Trying again…');
    setTimeout(comeBack, liveDelay);
    liveDelay = Math.min(liveDelay * 2, 15000);
  };
}
async function comeBack() {
  const answer = await fetch('/me').catch(() => null);
  if (!answer) { setTimeout(comeBack, liveDelay); liveDelay = Math.min(liveDelay * 2, 15000); return; }
  if (answer.status === 200) { me = await answer.json(); connectLive(); if (visit && visit.lost) visit.again(); }
  else showSignIn('Your sign-in has ended. Sign in again.');
}
function takeLive(m) {
  if (m.me) { me = m.me; }
  if (m.machines) { machines = m.machines; paintRoster(); openFromPass(); }
  if (m.signedOut) showSignIn('Your sign-in has ended.');
  if (m.error) note(m.error);
  if (m.passMade) showPassMade(m.passMade);
  if (m.passes) { passes = m.passes; paintPasses(); }
}
function openFromPass() {
  if (!me || !me.pass || visit) return;
  const way = machines.flatMap(m => m.ways.map(w => ({ m, w }))).find(x => x.w.id === me.way);
  if (way && !way.w.why) openWay(way.m, way.w);
}

// ---- machines

const words = { answering: 'answers', silent: 'listens, says nothing', off: 'not answering', unknown: 'not looked at' };
function glyph(state) {
  const shapes = {
    answering: '<circle cx="7" cy="7" r="5.5" fill="var(--teal)"/>',
    silent: '<circle cx="7" cy="7" r="5" fill="none" stroke="var(--teal)" stroke-width="1.6"/><circle cx="7" cy="7" r="2" fill="var(--teal)"/>',
    starting: '<circle cx="7" cy="7" r="5" fill="none" stroke="var(--amber)" stroke-width="1.6"/><path d="M7 2a5 5 0 0 1 0 10z" fill="var(--amber)"/>',
    off: '<circle cx="7" cy="7" r="5" fill="none" stroke="var(--quiet)" stroke-width="1.6"/>',
    trouble: '<path d="M7 1l6 6-6 6-6-6z" fill="var(--brick)"/>',
    unknown: '<circle cx="7" cy="7" r="5" fill="none" stroke="var(--quiet)" stroke-width="1.6" stroke-dasharray="2.4 2"/>'
  };
  const box = document.createElement('span');
  box.innerHTML = `<svg class="glyph" viewBox="0 0 14 14" role="img" aria-label="${words[state] || state}">${shapes[state] || shapes.unknown}</svg>`;
  return box.firstChild;
}
const actWords = { start: 'start', shutdown: 'ask it to shut down', restart: 'ask it to restart', resume: 'let it go on', off: 'force it off' };
const hostWords = { start: 'start it', shutdown: 'shut it down', restart: 'restart it', resume: 'let it go on', off: 'force it off' };
let powerOpen = 0, powerSure = '';
function switchMachine(m, act) {
  if (!live || live.readyState !== 1) return note('The gate is not reached. Nothing was asked.');
  // What may lose work is asked twice, in the same place.
  if (act === 'off' && powerSure !== m.id + act) {
    powerSure = m.id + act;
    setTimeout(() => { powerSure = ''; paintRoster(); }, 5000);
  } else {
    powerSure = ''; powerOpen = 0;
    live.send(JSON.stringify({ power: { machine: m.id, act } }));
    note(`${m.name}: its host was asked to ${hostWords[act] || act}`);
  }
  paintRoster();
}
function powerRow(m) {
  if (powerOpen !== m.id) return [];
  if (m.power.why) return [make('p', { class: 'quiet' }, m.power.why)];
  if (!m.power.acts.length) return [make('p', { class: 'quiet' }, `It is ${m.power.state}; nothing can be asked now.`)];
  return [make('div', { class: 'power', role: 'toolbar', 'aria-label': `Switch ${m.name}` }, make('span', { class: 'quiet' }, `It is ${m.power.state}.`),
    ...m.power.acts.map(act => make('button', { class: 'plain' + (act === 'off' ? ' grave' : ''), 'data-way': `act-${m.id}-${act}`, onclick: () => switchMachine(m, act) },
      powerSure === m.id + act ? 'sure? what is not saved is lost' : actWords[act] || act)))];
}
function paintRoster() {
  const needle = $('go').value.trim().toLowerCase(), roster = $('roster'), scroll = roster.scrollTop;
  const focused = document.activeElement && document.activeElement.dataset ? document.activeElement.dataset.way : null;
  roster.replaceChildren();
  const groups = new Map();
  for (const m of machines) {
    if (needle && !`${m.name} ${m.group}`.toLowerCase().includes(needle)) continue;
    if (!groups.has(m.group)) groups.set(m.group, []);
    groups.get(m.group).push(m);
  }
  for (const [group, list] of groups) {
    roster.append(make('h2', {}, group || 'Machines', make('span', {}, String(list.length))));
    for (const m of list) {
      const others = m.ways.flatMap(w => w.visits).filter(v => !visit || v.visit !== visit.number);
      const mine = visit && m.ways.some(w => w.id === visit.way.id);
      const sentence = mine ? (others.length ? `open here · ${others.length} other${others.length > 1 ? 's' : ''} here` : 'open here')
        : others.length ? `${others[0].who} ${others[0].drives ? 'drives' : 'looks'}` : m.sentence;
      const chips = m.ways.map(w => {
        const chip = make('button', { class: 'chip' + (visit && w.id === visit.way.id ? ' open' : ''), title: w.why || `Open ${m.name}, ${w.label}`, disabled: !!w.why, 'data-way': w.id, onclick: () => openWay(m, w) }, w.chip);
        return chip;
      });
      roster.append(make('div', { class: 'machine' + (mine ? ' here' : '') }, glyph(m.state), make('div', {}, make('b', {}, m.name), make('p', {}, sentence), ...chips,
        ...(m.power ? [make('button', { class: 'chip', title: `Switch ${m.name}`, 'aria-expanded': String(powerOpen === m.id), 'data-way': `power-${m.id}`, onclick: () => { powerOpen = powerOpen === m.id ? 0 : m.id; powerSure = ''; paintRoster(); } }, 'on/off')] : []),
        ...powerRow(m))));
    }
  }
  if (!groups.size) roster.append(make('p', { class: 'empty' }, needle ? `No machine has “${$('go').value.trim()}” in its name.` : 'No machine is yours to reach here yet.'));
  roster.scrollTop = scroll;
  if (focused) roster.querySelector(`[data-way="${focused}"]`)?.focus();
  paintPeople();
}
$('go').addEventListener('input', paintRoster);
$('go').addEventListener('keydown', e => {
  if (e.key !== 'Enter') return;
  const needle = $('go').value.trim().toLowerCase();
  const m = machines.find(x => x.name.toLowerCase().includes(needle) && x.ways.some(w => !w.why));
  if (m) { openWay(m, m.ways.find(w => !w.why)); $('go').value = ''; paintRoster(); }
});
document.addEventListener('keydown', e => {
  if (e.ctrlKey && e.key === 'g' && !(visit && visit.focused())) { e.preventDefault(); $('go').focus(); }
});
function showEmpty() {
  document.body.classList.remove('opened');
  $('stage').replaceChildren(make('p', { class: 'empty' }, me && me.pass ? 'This pass opens one machine. It opens here by itself.' : 'Choose a machine: its screen or its text opens here.'));
}

// ---- one open machine

function closeVisit() {
  if (visit) visit.close();
  visit = null;
  if (me) showEmpty();
}
function openWay(machine, way) {
  if (visit && visit.way.id === way.id && !visit.over) return;
  if (visit) visit.close();
  visit = new Visit(machine, way);
  paintRoster();
}

class Visit {
  constructor(machine, way) {
    this.machine = machine;
    this.way = way;
    this.number = 0;
    this.people = [];
    this.all = 0;
    this.may = { drive: false, why: '', clipboardTo: false, clipboardFrom: false };
    this.size = [0, 0];
    this.fitMode = 'fit';
    this.buttons = 0;
    this.held = new Set();
    this.rows = [];
    this.delay = 1000;
    this.build();
    this.connect();
  }
  build() {
    const button = (text, title, act, more = '') => make('button', { class: 'plain ' + more, title, onclick: act }, text);
    this.title = make('b', {}, this.machine.name);
    this.glyphBox = make('span', {});
    this.route = make('span', { class: 'wide cut' });
    this.hand = make('span', {});
    this.latency = make('span', { class: 'quiet wide' });
    this.clipButton = button('clipboard', 'Text to and from the machine', () => this.showClipboard());
    this.bar = make('div', { class: 'bar' }, button('‹ machines', 'Back to the list', () => { document.body.classList.remove('opened'); }, 'back'), this.glyphBox, this.title,
      make('span', { class: 'quiet wide' }, this.way.label), this.route, make('span', { class: 'fill' }), this.hand, this.latency,
      button('keys', 'Keys that the browser keeps for itself', () => this.showKeys()), this.clipButton,
      this.fitButton = button('fit', 'Fit to this window, or one to one', () => this.toggleFit(), 'wide'),
      button('⤢', 'Full screen', () => document.fullscreenElement ? document.exitFullscreen() : $('stage').requestFullscreen(), 'wide'),
      button('end', 'End the session', () => this.send({ end: true })));
    this.face = make('div', { class: 'face', tabindex: '0', 'aria-label': `Screen of ${this.machine.name}` });
    this.typing = make('textarea', { class: 'hiddenText', 'aria-label': 'Typing goes to the machine', autocapitalize: 'off', autocomplete: 'off', spellcheck: 'false' });
    this.face.append(this.typing);
    this.foot = make('div', { class: 'foot' }, this.figures = make('span', {}), this.who = make('span', {}), make('span', { class: 'fill' }), this.clipNote = make('span', { class: 'wide' }));
    $('stage').replaceChildren(this.bar, this.face, this.foot);
    document.body.classList.add('opened');
    this.listen();
  }
  focused() { return this.face.contains(document.activeElement); }
  drives() { return this.people.some(p => p.visit === this.number && p.drives); }
  connect() {
    this.lost = this.over = false;
    this.socket = new WebSocket(socketUrl('/visit?way=' + this.way.id));
    this.pinging = setInterval(() => this.send({ ping: performance.now() }), 5000);
    this.socket.onmessage = e => this.take(JSON.parse(e.data));
    this.socket.onclose = e => {
      clearInterval(this.pinging);
      this.stopPicture();
      if (this.closed) return;
      if (e.code === 4001 || e.code === 4003) return this.overBecause(this.awayWhy || e.reason);
      // The line, or the gate: come back to the same machine by itself.
      this.lost = true;
      this.card('lost', card => {
        card.append(make('h3', {}, 'The line to the gate was lost'), make('p', {}, 'The session waits there for a while. Trying to come back…'));
      });
      setTimeout(() => { if (this.lost && !this.closed && live && live.readyState === 1) this.again(); }, this.delay);
      this.delay = Math.min(this.delay * 2, 10000);
    };
  }
  again() { if (this.closed || !this.lost) return; this.rows = []; this.connect(); }
  close() { this.closed = true; this.stopPicture(); this.socket.close(); clearInterval(this.pinging); }
  send(m) { if (this.socket.readyState === 1) this.socket.send(JSON.stringify(m)); }
  overBecause(why) {
    this.over = true;
    this.card('over', card => card.append(make('h3', {}, 'This visit is over'), make('p', {}, why || 'The gate ended it.'),
      make('div', { class: 'row' }, make('button', { class: 'own', onclick: () => { closeVisit(); paintRoster(); } }, 'Put away'))));
    paintRoster();
  }
  take(m) {
    if ('pong' in m && m.pong) this.latency.textContent = Math.round(performance.now() - m.pong) + ' ms';
    if (m.visit) {
      this.number = m.visit; this.may = m.may; this.form = m.form; this.delay = 1000;
      this.uncard('lost');
      this.face.classList.toggle('looking', !m.may.drive);
      this.clipNote.textContent = m.may.clipboardTo && m.may.clipboardFrom ? 'copied text goes both ways' : m.may.clipboardTo ? 'copied text goes to the machine only' : m.may.clipboardFrom ? 'copied text comes from the machine only' : 'the clipboard is off here, by policy';
      this.clipButton.disabled = !m.may.clipboardTo && !m.may.clipboardFrom;
      if (m.form === 'text') this.startText();
    }
    if (m.status) this.takeStatus(m.status);
    if (m.route) { this.routeNow = m.route; this.paintRoute(); }
    if ('question' in m) m.question ? this.ask(m.question) : this.uncard('question');
    if (m.size) { this.size = m.size; this.startPicture(); this.place(); }
    if (m.people) { this.people = m.people; this.all = m.all || m.people.length; paintPeople(); paintRoster(); }
    if (m.text) this.takeText(m.text);
    if (m.above) this.takeAbove(m.above);
    if (m.clip) this.takeClip(m.clip);
    if (m.handAsked) this.askedForHand(m.handAsked);
    if (m.message) note(m.message);
    if (m.written) this.showWritten(m.written);
    if (m.remark) note(m.remark);
    if (m.sentAway) this.awayWhy = m.sentAway;
  }
  // Sealed or plain shows only once the machine has let the gate in.
  paintRoute() {
    const r = this.routeNow, to = r && r.host || 'the machine';
    this.route.className = 'wide cut ' + (r && r.sealed ? 'sealed' : 'amber');
    this.route.replaceChildren(...(r && r.reached && this.live ? [make('i', { class: 'pipe ' + (r.sealed ? 'solid' : 'dashed') }), r.sealed ? `sealed from the gate to ${to}` : `plain from the gate to ${to}`] : []));
  }
  takeStatus(s) {
    this.live = s.stage === 'live';
    this.paintRoute();
    this.glyphBox.replaceChildren(glyph(s.stage === 'live' ? 'answering' : s.stage === 'waiting' || (s.stage === 'ended' && s.problem) ? 'trouble' : s.stage === 'ended' ? 'off' : 'starting'));
    if (s.stage === 'live') { this.uncard('status'); this.asked = null; this.fitText(); return; }
    this.card('status', card => {
      card.append(make('h3', {}, s.stage === 'waiting' ? `${this.machine.name} is not reached` : s.stage === 'ended' ? `${this.machine.name}: the session is over` : this.machine.name), make('p', { class: s.problem ? 'bad' : '' }, s.sentence));
      if (s.cure) card.append(make('p', { class: 'quiet' }, s.cure));
      if (s.next) card.append(make('p', { class: 'quiet' }, `attempt ${s.attempt}; the next in ${Math.ceil(s.next)} s`));
      if (s.problem && this.may.answer) this.offerKeyFile(card);
      const row = make('div', { class: 'row' });
      if (s.stage === 'waiting' || s.stage === 'ended') row.append(make('button', { class: 'own', onclick: () => this.send({ retry: true }) }, 'Try now'));
      row.append(make('button', { onclick: () => this.send({ end: true }) }, 'End'));
      card.append(row);
    });
  }
  card(name, fill) {
    this.uncard(name);
    const card = make('div', { class: 'card', 'data-card': name, role: 'dialog' });
    fill(card);
    this.face.append(card);
    return card;
  }
  showWritten(w) {
    this.card('written', card => {
      card.append(make('h3', {}, `${w.who} writes`), make('p', {}, w.text));
      const row = make('div', { class: 'row' });
      row.append(make('button', { class: 'own', onclick: () => this.uncard('written') }, 'Read'));
      card.append(row);
    });
  }
  uncard(name) { this.face.querySelector(`[data-card="${name}"]`)?.remove(); }

  // -- questions of the machine
  ask(q) {
    this.uncard('status');
    this.card('question', card => {
      card.append(make('h3', {}, q.text));
      if (q.again) card.append(make('p', { class: 'bad' }, q.refused ? `The last one was not taken: ${q.refused}.` : 'The last one was not taken. Try again.'));
      if (q.hint) card.append(make('p', { class: 'quiet' }, q.hint));
      if (!this.may.answer) { card.append(make('p', {}, 'Whoever drives answers this.')); return; }
      const row = make('div', { class: 'row' });
      if (q.kind === 'trust' || q.kind === 'unsealed') {
        const c = q.certificate;
        if (c) {
          if (c.pinned) card.append(make('p', { class: 'bad' }, 'It is not the one that was trusted before. Somebody may be listening in, or the host was set up anew.'));
          for (const [k, v] of [['shown by', c.subject], ['issued by', c.issuer], ['good until', c.until]]) if (v) card.append(make('p', {}, make('span', { class: 'quiet' }, k + ' '), v));
          card.append(make('p', {}, make('code', {}, c.sha256)));
        }
        row.append(make('button', { class: 'own', onclick: () => this.send({ answer: { accepted: false } }) }, 'Refuse'),
          make('button', { onclick: () => this.send({ answer: { accepted: true } }) }, 'Go on, this once'));
        card.append(row);
        return;
      }
      const form = make('form', { autocomplete: 'off' });
      const user = q.kind === 'account' ? make('input', { value: q.user || '', autocomplete: 'off', 'aria-label': 'Name' }) : null;
      const secret = make('input', { type: q.kind === 'text' ? 'text' : 'password', autocomplete: 'off', 'aria-label': q.kind === 'text' ? 'Answer' : 'Password', class: 'answer' });
      if (user) form.append(make('label', {}, 'Name', user));
      form.append(make('label', {}, q.kind === 'text' ? 'Answer' : 'Password', secret));
      this.offerKeyFile(form);
      form.addEventListener('submit', e => {
        e.preventDefault();
        this.send({ answer: { accepted: true, user: user ? user.value : q.user || '', password: secret.value } });
        secret.value = '';
        this.uncard('question');
        this.face.focus();
      });
      row.append(make('button', { type: 'button', onclick: () => this.send({ answer: { accepted: false } }) }, 'Stop'), make('button', { class: 'own' }, 'Sign in'));
      form.append(row);
      card.append(form);
      setTimeout(() => (user && !user.value ? user : secret).focus());
    });
  }

  offerKeyFile(into) {
    if (!this.way.keys) return;
    const file = make('input', { type: 'file', 'aria-label': 'Key file', class: 'keyfile' });
    file.addEventListener('change', async () => {
      const text = await file.files[0].text();
      this.send({ answer: { accepted: true, keyFile: text } });
      this.uncard('question');
    });
    into.append(make('label', {}, 'Sign in with a key file from this computer: used for this sign-in only, never kept', file));
  }

  // -- the picture
  startPicture() {
    if (this.worker || !this.number) return;
    const canvas = make('canvas', { id: 'screen' });
    this.canvas = canvas;
    this.face.prepend(canvas);
    const offscreen = canvas.transferControlToOffscreen();
    this.worker = new Worker('/picture.js');
    this.worker.onmessage = ({ data }) => {
      if (data.size) { this.size = data.size; this.place(); }
      if (data.keyMs) this.figures.dataset.keyMs = data.keyMs;
      if (data.figures) this.figures.textContent = `${data.figures.w} × ${data.figures.h} · ${data.figures.frames} fps    ${(data.figures.bytesIn / 1000).toFixed(0)} kB/s` + (data.figures.keyMs ? `    key to picture ${data.figures.keyMs.toFixed(0)} ms` : '');
      if ('cursor' in data) this.face.style.cursor = data.cursor && this.drives() ? `url(data:image/png;base64,${data.cursor[0]}) ${data.cursor[1]} ${data.cursor[2]}, default` : '';
      if ('closed' in data && this.worker) { this.stopPicture(); if (!this.closed && !this.lost && !this.over) setTimeout(() => this.startPicture(), 1000); }
      if (data.trouble) note('The picture: ' + data.trouble);
    };
    this.worker.postMessage({ canvas: offscreen, url: socketUrl(`/picture?way=${this.way.id}&visit=${this.number}`) }, [offscreen]);
    this.place();
    if (!this.face.querySelector('.card')) this.face.focus();
  }
  stopPicture() {
    if (!this.worker) return;
    this.worker.postMessage({ close: true });
    const old = this.worker;
    this.worker = null;
    setTimeout(() => old.terminate(), 200);
    this.canvas.remove();
  }
  toggleFit() { this.fitMode = this.fitMode === 'fit' ? 'actual' : 'fit'; this.fitButton.textContent = this.fitMode === 'fit' ? 'fit' : 'one to one'; this.place(); }
  place() {
    if (!this.canvas || !this.size[0]) return;
    const room = this.face.getBoundingClientRect();
    this.face.classList.toggle('actual', this.fitMode === 'actual');
    this.scale = this.fitMode === 'actual' ? 1 : Math.min(room.width / this.size[0], room.height / this.size[1], 1);
    this.left = this.fitMode === 'actual' ? 0 : Math.max(0, (room.width - this.size[0] * this.scale) / 2);
    this.topAt = this.fitMode === 'actual' ? 0 : Math.max(0, (room.height - this.size[1] * this.scale) / 2);
    this.canvas.style.transform = this.fitMode === 'actual' ? '' : `translate(${this.left}px,${this.topAt}px) scale(${this.scale})`;
  }
  at(e) {
    const room = this.face.getBoundingClientRect();
    const x = (e.clientX - room.left + this.face.scrollLeft - this.left) / this.scale, y = (e.clientY - room.top + this.face.scrollTop - this.topAt) / this.scale;
    return [Math.max(0, Math.min(this.size[0] - 1, Math.floor(x))), Math.max(0, Math.min(this.size[1] - 1, Math.floor(y)))];
  }
  pointer(buttons, [x, y]) { this.worker?.postMessage({ pointer: [buttons, x, y] }); }
  key(down, sym) {
    if (!sym) return;
    down ? this.held.add(sym) : this.held.delete(sym);
    this.worker?.postMessage({ key: [down, sym, performance.timeOrigin + performance.now()] });
  }
  releaseAll() { for (const sym of [...this.held]) this.key(false, sym); }
  listen() {
    const f = this.face, mine = e => !e.target.closest('.card,.ask,.keys');
    const mask = b => (b & 1) | (b & 4) >> 1 | (b & 2) << 1;
    f.addEventListener('pointerdown', e => {
      if (!mine(e) || !this.worker) return;
      f.focus({ preventScroll: true });
      if (e.pointerType === 'touch') { this.touch = { at: this.at(e), moved: false, y: e.clientY, x: e.clientX, id: e.pointerId }; return; }
      e.preventDefault();
      f.setPointerCapture(e.pointerId);
      this.pointer(mask(e.buttons), this.at(e));
    });
    f.addEventListener('pointermove', e => {
      if (!this.worker) return;
      if (e.pointerType === 'touch') {
        const t = this.touch;
        if (!t || t.id !== e.pointerId) return;
        if (!t.moved && Math.hypot(e.clientX - t.x, e.clientY - t.y) < 8) return;
        if (!t.moved) { t.moved = true; this.pointer(1, t.at); }
        this.pointer(1, this.at(e));
        return;
      }
      if (mine(e)) this.pointer(mask(e.buttons), this.at(e));
    });
    f.addEventListener('pointerup', e => {
      if (!this.worker) return;
      if (e.pointerType === 'touch') {
        const t = this.touch, at = this.at(e);
        this.touch = null;
        if (!t) return;
        if (!t.moved) { this.pointer(0, at); this.pointer(1, at); }
        this.pointer(0, at);
        return;
      }
      if (mine(e)) this.pointer(mask(e.buttons), this.at(e));
    });
    f.addEventListener('contextmenu', e => { if (this.worker && mine(e)) e.preventDefault(); });
    f.addEventListener('wheel', e => {
      if (!this.worker || !mine(e) || this.fitMode === 'actual' && !this.drives()) return;
      e.preventDefault();
      const at = this.at(e), bit = e.deltaY < 0 ? 8 : e.deltaY > 0 ? 16 : e.deltaX < 0 ? 32 : 64;
      this.pointer(bit, at);
      this.pointer(0, at);
    }, { passive: false });
    f.addEventListener('keydown', e => {
      if (!mine(e)) return;
      // An input method has the key; what it makes of it comes when it is done.
      if (e.isComposing || e.keyCode === 229) return;
      if (this.form === 'text') return this.textKey(e);
      if (!this.worker) return;
      e.preventDefault();
      this.key(true, symOf(e));
    });
    f.addEventListener('keyup', e => {
      if (!mine(e) || !this.worker) return;
      e.preventDefault();
      this.key(false, symOf(e));
    });
    f.addEventListener('focusout', e => { if (!f.contains(e.relatedTarget)) this.releaseAll(); });
    // Input methods write into fields only. On a touch screen the field would raise the keyboard unasked.
    f.addEventListener('focus', () => { if (!matchMedia('(pointer: coarse)').matches) this.typing.focus({ preventScroll: true }); });
    f.addEventListener('paste', e => {
      if (!mine(e)) return;
      const text = e.clipboardData.getData('text/plain');
      e.preventDefault();
      if (text) this.form === 'text' ? this.send({ paste: text }) : this.send({ clip: text });
    });
    // What keyboards on the screen and input methods write.
    const written = () => {
      const text = this.typing.value;
      this.typing.value = '';
      if (text) this.typeText(text);
    };
    this.typing.addEventListener('input', e => { if (!e.isComposing) written(); });
    this.typing.addEventListener('compositionend', written);
    this.watcher = new ResizeObserver(() => { this.place(); this.fitText(); });
    this.watcher.observe(f);
  }
  typeText(text) {
    if (this.form === 'text') return this.send({ type: text.replace(/\n/g, '\r') });
    for (const c of text) { const sym = symOfPoint(c.codePointAt(0)); this.key(true, sym); this.key(false, sym); }
  }

  // -- text
  startText() {
    this.face.querySelector('.term')?.remove();
    this.term = make('div', { class: 'term', 'aria-label': `Text of ${this.machine.name}`, role: 'log' });
    this.face.prepend(this.term);
    this.rows = [];
    this.older = [];
    this.first = null;
    this.term.addEventListener('scroll', () => { if (this.term.scrollTop < 40 && this.first > this.oldest && !this.asking) { this.asking = true; const from = Math.max(this.oldest, this.first - 200); this.send({ above: [from, this.first - from] }); } });
    this.fitText();
    if (!this.face.querySelector('.card')) this.face.focus();
  }
  fitText() {
    if (!this.term || !this.drives()) return;
    const probe = make('span', {}, 'M'.repeat(20));
    this.term.append(probe);
    const box = probe.getBoundingClientRect(), room = this.face.getBoundingClientRect();
    probe.remove();
    if (!box.width) return;
    const size = [Math.floor((room.height - 12) / box.height), Math.floor((room.width - 26) / (box.width / 20))];
    if (size.join() === this.asked) return;
    this.asked = size.join();
    this.send({ resize: size });
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
  takeText(t) {
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
    this.figures.textContent = `${t.columns} columns, ${t.rows} rows`;
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
  textKey(e) {
    if (e.isComposing || e.key === 'Dead' || sidedKey(e.key)) return;
    if ((e.ctrlKey && e.shiftKey || e.metaKey) && 'cv'.includes(e.key.toLowerCase())) return;
    if (e.ctrlKey && e.key === 'c' && String(getSelection())) return;
    const points = [...e.key];
    if (points.length > 1 && !/^(Enter|Tab|Backspace|Escape|Arrow\w+|Insert|Delete|Home|End|Page\w+|F\d+)$/.test(e.key)) return;
    e.preventDefault();
    if (points.length === 1 && !e.ctrlKey && !e.altKey) this.send({ type: e.key });
    else this.send({ textKey: { key: e.key, shift: e.shiftKey, alt: e.altKey, ctrl: e.ctrlKey } });
    this.term.scrollTop = this.term.scrollHeight;
  }

  // -- clipboard, keys, people
  async takeClip(text) {
    this.lastClip = text;
    try { await navigator.clipboard.writeText(text); note('Copied on the machine; it is on your clipboard.'); }
    catch { note('Copied on the machine: open “clipboard” to take it.'); }
    const box = this.face.querySelector('.clipFrom');
    if (box) box.value = text;
  }
  showClipboard() {
    if (this.face.querySelector('[data-card="clip"]')) return this.uncard('clip');
    this.card('clip', card => {
      card.append(make('h3', {}, 'Clipboard'));
      if (this.may.clipboardTo) {
        const to = make('textarea', { rows: '3', class: 'clipTo', 'aria-label': 'To the machine' });
        to.style.width = '100%';
        card.append(make('label', {}, 'To the machine', to), make('div', { class: 'row' }, make('button', { class: 'own', disabled: !this.drives(), onclick: () => { this.form === 'text' ? this.send({ paste: to.value }) : this.send({ clip: to.value }); note('Sent.'); this.uncard('clip'); this.face.focus(); } }, 'Send it')));
      }
      if (this.may.clipboardFrom && this.form !== 'text') {
        const from = make('textarea', { rows: '3', readonly: true, class: 'clipFrom', 'aria-label': 'From the machine' });
        from.style.width = '100%';
        from.value = this.lastClip || '';
        card.append(make('label', {}, 'Copied on the machine', from));
      }
      card.append(make('div', { class: 'row' }, make('button', { onclick: () => this.uncard('clip') }, 'Close')));
    });
  }
  showKeys() {
    const have = $('stage').querySelector('.keys');
    if (have) return have.remove();
    const row = make('div', { class: 'keys', role: 'toolbar', 'aria-label': 'Keys' });
    const chord = (text, c) => row.append(make('button', { onclick: () => { this.form === 'text' && textNames[c] ? this.send({ textKey: { key: textNames[c] } }) : this.send({ chord: c }); this.face.focus(); } }, text));
    chord('Esc', 'esc'); chord('Tab', 'tab');
    if (this.form !== 'text') { chord('Ctrl+Alt+Delete', 'ctrl+alt+delete'); chord('Super', 'super'); chord('Alt+Tab', 'alt+tab'); chord('Alt+F4', 'alt+f4'); chord('Print', 'print'); }
    chord('Del', 'delete'); chord('↑', 'up'); chord('↓', 'down'); chord('←', 'left'); chord('→', 'right');
    for (let i = 1; i <= 12; ++i) chord('F' + i, 'f' + i);
    row.append(make('button', { class: 'own', onclick: () => this.typing.focus() }, 'Keyboard'));
    this.foot.before(row);
  }
  askedForHand({ visit: who, who: name }) {
    this.face.querySelector('.ask')?.remove();
    const box = make('div', { class: 'ask', role: 'dialog' }, make('p', {}, make('b', {}, name), ' asks for the hand'),
      make('button', { class: 'own give', onclick: () => { this.send({ giveHand: who }); box.remove(); } }, 'Give it'), ' ',
      make('button', { onclick: () => { this.send({ keepHand: who }); box.remove(); } }, 'Keep it'));
    this.face.append(box);
  }
}
const textNames = { esc: 'Escape', tab: 'Tab', delete: 'Delete', up: 'ArrowUp', down: 'ArrowDown', left: 'ArrowLeft', right: 'ArrowRight', ...Object.fromEntries([...Array(12)].map((_, i) => ['f' + (i + 1), 'F' + (i + 1)])) };
const sidedKey = k => ['Shift', 'Control', 'Alt', 'Meta', 'AltGraph', 'CapsLock'].includes(k);
const sixteen = ['#2b3238', '#d0604e', '#5bb8a8', '#e0b04c', '#6f9fc8', '#b48ab8', '#6fc3c0', '#c9c4ba', '#5a646c', '#e58a7b', '#86d3c5', '#efc97a', '#96bde0', '#cfaed2', '#97dcda', '#f4f1ea'];
function colour(c) {
  if (c == null) return '';
  if (typeof c === 'string') return c;
  if (c < 16) return sixteen[c];
  if (c >= 232) { const g = 8 + 10 * (c - 232); return `rgb(${g},${g},${g})`; }
  const n = c - 16, level = v => v ? 55 + 40 * v : 0;
  return `rgb(${level(Math.floor(n / 36))},${level(Math.floor(n / 6) % 6)},${level(n % 6)})`;
}
function paintPeople() {
  if (!visit || !visit.hand) return;
  const mine = visit.people.find(p => p.visit === visit.number), driver = visit.people.find(p => p.drives), others = visit.people.filter(p => p.visit !== visit.number);
  visit.face.classList.toggle('looking', !visit.drives());
  if (mine && mine.drives) { visit.hand.replaceChildren('you have the hand'); visit.hand.style.color = 'var(--copper)'; visit.fitText(); }
  else {
    visit.hand.style.color = '';
    visit.hand.replaceChildren(driver ? `${driver.who} has the hand ` : 'looking ', visit.may.drive ? make('button', { class: 'plain askHand', onclick: () => { visit.send({ askHand: true }); note('Asked.'); } }, 'ask for it') : make('span', { class: 'quiet', title: visit.may.why }, '· ' + (visit.may.why || 'only looking')));
  }
  const more = visit.all - visit.people.length;
  visit.who.textContent = others.length ? 'here too: ' + others.map(p => `${p.who}${p.drives ? ' (drives)' : ''} since ${new Date(p.since * 1000).toTimeString().slice(0, 5)}`).join(', ') + (more > 0 ? ` and ${more} more` : '') : '';
}

// ---- passes

$('passes').addEventListener('click', () => { live?.send('{"passes":true}'); });
function paintPasses() {
  const old = document.querySelector('#passcard');
  old?.remove();
  const card = make('div', { class: 'card', id: 'passcard', role: 'dialog' });
  card.style.width = 'min(680px, calc(100% - 24px))';
  card.append(make('h3', {}, 'Passes'));
  const way = make('select', { 'aria-label': 'Opens' });
  for (const m of machines) for (const w of m.ways) if (!w.why) way.append(make('option', { value: w.id, selected: !!visit && visit.way.id === w.id }, `${m.name} · ${w.label}`));
  const hours = make('input', { type: 'number', value: '2', min: '0.25', step: '0.25', 'aria-label': 'Hours' }), who = make('input', { placeholder: 'for whom', 'aria-label': 'For whom' }), look = make('input', { type: 'checkbox', checked: true, id: 'looks' });
  hours.style.width = '90px';
  for (const e of [hours, who, way]) { e.style.display = 'inline-block'; e.style.marginRight = '8px'; }
  who.style.width = '150px';
  card.append(make('p', {}, way), make('p', {}, hours, 'hours ', who, look, make('span', {}, ' only look '), make('button', { class: 'own', onclick: () => live.send(JSON.stringify({ makePass: { way: Number(way.value), hours: Number(hours.value), look: look.checked, note: who.value } })) }, 'Make a pass')), make('p', { id: 'passmade' }));
  const table = make('table', {}, make('tr', {}, ...['Opens', 'For', 'May', 'Until', 'Used', ''].map(t => make('th', {}, t))));
  for (const p of passes) table.append(make('tr', {}, make('td', {}, `${p.machine} · ${p.label}`), make('td', {}, p.note || '—'), make('td', {}, p.look ? 'look' : 'drive'), make('td', {}, p.state || new Date(p.until * 1000).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' })), make('td', {}, p.most ? `${p.uses} of ${p.most}` : String(p.uses)), make('td', {}, p.state ? '' : make('button', { class: 'plain', onclick: () => live.send(JSON.stringify({ endPass: p.id })) }, 'end'))));
  if (passes.length) card.append(table); else card.append(make('p', { class: 'quiet' }, 'None yet. A pass is a link that opens one machine for a time, without an account.'));
  card.append(make('div', { class: 'row' }, make('button', { onclick: () => card.remove() }, 'Close')));
  $('stage').append(card);
}
function showPassMade(p) {
  live.send('{"passes":true}');
  setTimeout(() => {
    const box = $('passmade');
    if (!box) return;
    const link = location.origin + p.path;
    box.replaceChildren('The link, shown this once: ', make('code', {}, link), ' ', make('button', { class: 'plain', onclick: () => navigator.clipboard.writeText(link).then(() => note('Copied.')) }, 'copy'));
  }, 300);
}

// ---- begin

async function begin() {
  if (location.hash.startsWith('#pass=')) {
    const pass = location.hash.slice(6);
    history.replaceState(null, '', '/');
    const { status, body } = await post('/pass', { pass });
    if (status === 200) return signedIn(body);
    return showSignIn(body.error || 'This pass does not open.');
  }
  const answer = await fetch('/me');
  if (answer.status === 200) signedIn(await answer.json());
  else showSignIn();
}
addEventListener('hashchange', begin);
begin();
