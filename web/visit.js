// One open machine: its line to the gateway, what is asked and said there, who else is there.
import { $, make, note, now, socketUrl, glyph, clock, on, tell } from '/page.js';
import { ScreenPane } from '/screen.js';
import { TextPane } from '/text.js';

const textNames = { esc: 'Escape', tab: 'Tab', delete: 'Delete', up: 'ArrowUp', down: 'ArrowDown', left: 'ArrowLeft', right: 'ArrowRight', ...Object.fromEntries([...Array(12)].map((_, i) => ['f' + (i + 1), 'F' + (i + 1)])) };

export function showEmpty() {
  document.body.classList.remove('opened');
  $('stage').replaceChildren(make('p', { class: 'empty' }, now.me && now.me.pass ? 'This pass opens one machine. It opens here by itself.' : 'Choose a machine: its screen or its text opens here.'));
}
export function closeVisit() {
  if (now.visit) now.visit.close();
  now.visit = null;
  if (now.me) showEmpty();
}
export function openWay(machine, way) {
  if (now.visit && now.visit.way.id === way.id && !now.visit.over) return;
  if (now.visit) now.visit.close();
  now.visit = new Visit(machine, way);
  tell('roster');
}
on('open', openWay);

export class Visit {
  constructor(machine, way) {
    this.machine = machine;
    this.way = way;
    this.number = 0;
    this.people = [];
    this.all = 0;
    this.may = { drive: false, why: '', clipboardTo: false, clipboardFrom: false };
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
    this.recorded = make('span', { class: 'amber recorded', hidden: true, title: 'What is shown here is kept with the gate, for its keepers' }, 'recorded');
    this.latency = make('span', { class: 'quiet wide' });
    this.clipButton = button('clipboard', 'Text to and from the machine', () => this.showClipboard());
    this.bar = make('div', { class: 'bar outside' }, button('‹ machines', 'Back to the list', () => { document.body.classList.remove('opened'); }, 'back'), this.glyphBox, this.title,
      make('span', { class: 'quiet wide' }, this.way.label), this.route, make('span', { class: 'fill' }), this.recorded, this.hand, this.latency,
      button('keys', 'Keys that the browser keeps for itself', () => this.showKeys()), this.clipButton,
      this.screensButton = button('screens', 'The screens of this machine', () => this.screen.showScreens()),
      this.fitButton = button('fit', 'Fit to this window, one to one, or the machine follows the window', () => this.screen.nextFit(), 'wide'),
      button('⤢', 'Full screen', () => document.fullscreenElement ? document.exitFullscreen() : $('stage').requestFullscreen(), 'wide'),
      this.endButton = button('end', 'End the session', () => this.send({ end: true })));
    this.face = make('div', { class: 'face', tabindex: '0', 'aria-label': `Screen of ${this.machine.name}` });
    this.typing = make('textarea', { class: 'hiddenText', 'aria-label': 'Typing goes to the machine', autocapitalize: 'off', autocomplete: 'off', spellcheck: 'false' });
    this.face.append(this.typing);
    this.foot = make('div', { class: 'foot' }, this.figures = make('span', {}), this.who = make('span', {}), make('span', { class: 'fill' }), this.exactButton = button('', 'Whether the picture may be coarser while it moves', () => this.screen.toggleExact(), 'small'), this.clipNote = make('span', { class: 'wide' }));
    this.exactButton.hidden = this.screensButton.hidden = true;
    $('stage').replaceChildren(this.bar, this.face, this.foot);
    document.body.classList.add('opened');
    this.screen = new ScreenPane(this);
    this.text = new TextPane(this);
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
      this.screen.stop();
      if (this.closed) return;
      if (e.code === 4001 || e.code === 4003) return this.overBecause(this.awayWhy || e.reason);
      // The line, or the gate: come back to the same machine by itself.
      this.lost = true;
      this.card('lost', card => {
        card.append(make('h3', {}, 'The line to the gate was lost'), make('p', {}, 'The session waits there for a while. Trying to come back…'));
      });
      setTimeout(() => { if (this.lost && !this.closed && now.live && now.live.readyState === 1) this.again(); }, this.delay);
      this.delay = Math.min(this.delay * 2, 10000);
    };
  }
  again() { if (this.closed || !this.lost) return; this.text.rows = []; this.connect(); }
  close() { this.closed = true; this.screen.stop(); this.socket.close(); clearInterval(this.pinging); }
  send(m) { if (this.socket.readyState === 1) this.socket.send(JSON.stringify(m)); }
  overBecause(why) {
    this.over = true;
    this.card('over', card => card.append(make('h3', {}, 'This visit is over'), make('p', {}, why || 'The gate ended it.'),
      make('div', { class: 'row' }, make('button', { class: 'own', onclick: () => { closeVisit(); tell('roster'); } }, 'Put away'))));
    tell('roster');
  }
  take(m) {
    if ('pong' in m && m.pong) this.latency.textContent = Math.round(performance.now() - m.pong) + ' ms';
    if (m.visit) {
      this.number = m.visit; this.may = m.may; this.form = m.form; this.delay = 1000;
      this.uncard('lost');
      this.uncard('door');
      this.recorded.hidden = !m.recorded;
      this.endButton.title = m.may.endAll ? 'End the session' : 'Leave; keepers only end it for everybody';
      this.endButton.textContent = m.may.endAll ? 'end' : 'leave';
      this.face.classList.toggle('looking', !m.may.drive);
      this.clipNote.textContent = m.may.clipboardTo && m.may.clipboardFrom ? 'copied text goes both ways' : m.may.clipboardTo ? 'copied text goes to the machine only' : m.may.clipboardFrom ? 'copied text comes from the machine only' : `the clipboard is off here${m.may.clipboardWhy}`;
      this.clipButton.disabled = !m.may.clipboardTo && !m.may.clipboardFrom;
      if (m.form === 'text') this.text.start();
    }
    if (m.status) this.takeStatus(m.status);
    if (m.route) { this.routeNow = m.route; this.paintRoute(); }
    if ('question' in m) m.question ? this.ask(m.question) : this.uncard('question');
    if (m.door) this.waitAtDoor(m.door);
    if (m.knocks) this.paintKnocks(m.knocks);
    if (m.screens) this.screen.takeScreens(m);
    if ('busy' in m) this.screen.worker?.postMessage({ busy: m.busy });
    if (m.size) { this.screen.size = m.size; this.startPicture(); this.screen.place(); }
    if (m.people) { this.people = m.people; this.all = m.all || m.people.length; this.paintPeople(); tell('roster'); }
    if (m.text) this.text.take(m.text);
    if (m.above) this.text.takeAbove(m.above);
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
    if (s.stage === 'live') { this.uncard('status'); this.text.asked = null; this.text.fit(); return; }
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
    if (this.number) this.screen.start(socketUrl(`/picture?way=${this.way.id}&visit=${this.number}`));
  }
  pictureEnded() { if (!this.closed && !this.lost && !this.over) setTimeout(() => this.startPicture(), 1000); }
  listen() {
    const f = this.face, mine = e => !e.target.closest('.card,.ask,.keys');
    f.addEventListener('keydown', e => { if (mine(e) && !e.isComposing && e.keyCode !== 229 && this.form === 'text') this.text.key(e); });
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
    this.watcher = new ResizeObserver(() => this.text.fit());
    this.watcher.observe(f);
  }
  typeText(text) {
    if (this.form === 'text') return this.send({ type: text.replace(/\n/g, '\r') });
    this.screen.typeText(text);
  }


  // -- the door, where whoever is there is asked first
  waitAtDoor(d) {
    this.card('door', card => {
      card.append(make('h3', {}, `${d.there} is at ${d.machine}`), make('p', {}, `There since ${clock(d.since)}, and asked to let you in. Nothing is shown until then.`),
        make('div', { class: 'row' }, make('button', { class: 'own', onclick: () => { closeVisit(); tell('roster'); } }, 'Do not wait')));
    });
  }
  paintKnocks(knocks) {
    this.face.querySelectorAll('.knock').forEach(box => box.remove());
    knocks.forEach(({ visit: who, who: name, from }, n) => {
      const box = make('div', { class: 'ask knock', role: 'dialog' }, make('p', {}, make('b', {}, name), ` asks to be let in, from ${from}`),
        make('button', { class: 'own letin', onclick: () => this.send({ letIn: who }) }, 'Let in'), ' ',
        make('button', { class: 'turnaway', onclick: () => this.send({ turnAway: who }) }, 'Turn away'));
      box.style.bottom = 16 + n * 110 + 'px';
      this.face.append(box);
    });
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
    this.face.querySelector('.ask:not(.knock)')?.remove();
    const box = make('div', { class: 'ask', role: 'dialog' }, make('p', {}, make('b', {}, name), ' asks for the hand'),
      make('button', { class: 'own give', onclick: () => { this.send({ giveHand: who }); box.remove(); } }, 'Give it'), ' ',
      make('button', { onclick: () => { this.send({ keepHand: who }); box.remove(); } }, 'Keep it'));
    this.face.append(box);
  }
  paintPeople() {
    this.bar.classList.toggle('outside', !this.number);
    if (!this.number) return;
    const mine = this.people.find(p => p.visit === this.number), driver = this.people.find(p => p.drives), others = this.people.filter(p => p.visit !== this.number);
    this.face.classList.toggle('looking', !this.drives());
    if (mine && mine.drives) { this.hand.replaceChildren('you have the hand'); this.hand.style.color = 'var(--copper)'; this.text.fit(); }
    else {
      this.hand.style.color = '';
      this.hand.replaceChildren(driver ? `${driver.who} has the hand ` : 'looking ', this.may.drive ? make('button', { class: 'plain askHand', onclick: () => { this.send({ askHand: true }); note('Asked.'); } }, 'ask for it') : make('span', { class: 'quiet', title: this.may.why }, '· ' + (this.may.why || 'only looking')));
    }
    const more = this.all - this.people.length;
    this.who.textContent = others.length ? 'here too: ' + others.map(p => `${p.who}${p.drives ? ' (drives)' : ''} since ${clock(p.since)}`).join(', ') + (more > 0 ? ` and ${more} more` : '') : '';
  }
}
on('people', () => { if (now.visit) now.visit.paintPeople(); });
