// The machines one may reach, with their live state, and switching them.
import { $, make, note, now, glyph, on, tell } from '/page.js';

const actWords = { start: 'start', shutdown: 'ask it to shut down', restart: 'ask it to restart', resume: 'let it go on', off: 'force it off' };
const hostWords = { start: 'start it', shutdown: 'shut it down', restart: 'restart it', resume: 'let it go on', off: 'force it off' };
let powerOpen = 0, powerSure = '';
function switchMachine(m, act) {
  if (!now.live || now.live.readyState !== 1) return note('The gate is not reached. Nothing was asked.');
  // What may lose work is asked twice, in the same place.
  if (act === 'off' && powerSure !== m.id + act) {
    powerSure = m.id + act;
    setTimeout(() => { powerSure = ''; paintRoster(); }, 5000);
  } else {
    powerSure = ''; powerOpen = 0;
    now.live.send(JSON.stringify({ power: { machine: m.id, act } }));
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
  for (const m of now.machines) {
    if (needle && !`${m.name} ${m.group}`.toLowerCase().includes(needle)) continue;
    if (!groups.has(m.group)) groups.set(m.group, []);
    groups.get(m.group).push(m);
  }
  for (const [group, list] of groups) {
    roster.append(make('h2', {}, group || 'Machines', make('span', {}, String(list.length))));
    for (const m of list) {
      const others = m.ways.flatMap(w => w.visits).filter(v => !now.visit || v.visit !== now.visit.number);
      const mine = now.visit && m.ways.some(w => w.id === now.visit.way.id);
      const sentence = mine ? (others.length ? `open here · ${others.length} other${others.length > 1 ? 's' : ''} here` : 'open here')
        : others.length ? `${others[0].who} ${others[0].drives ? 'drives' : 'looks'}` : m.sentence;
      const chips = m.ways.map(w => {
        const chip = make('button', { class: 'chip' + (now.visit && w.id === now.visit.way.id ? ' open' : ''), title: w.why || `Open ${m.name}, ${w.label}`, disabled: !!w.why, 'data-way': w.id, onclick: () => tell('open', m, w) }, w.chip);
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
  tell('people');
}
$('go').addEventListener('input', paintRoster);
$('go').addEventListener('keydown', e => {
  if (e.key !== 'Enter') return;
  const needle = $('go').value.trim().toLowerCase();
  const m = now.machines.find(x => x.name.toLowerCase().includes(needle) && x.ways.some(w => !w.why));
  if (m) { tell('open', m, m.ways.find(w => !w.why)); $('go').value = ''; paintRoster(); }
});
document.addEventListener('keydown', e => {
  if (e.ctrlKey && e.key === 'g' && !(now.visit && now.visit.focused())) { e.preventDefault(); $('go').focus(); }
});
on('roster', paintRoster);
