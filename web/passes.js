// Passes: links that open one machine for a time.
import { $, make, note, now, on } from '/page.js';

let passes = [];
$('passes').addEventListener('click', () => { now.live?.send('{"passes":true}'); });
function paintPasses() {
  const old = document.querySelector('#passcard');
  old?.remove();
  const card = make('div', { class: 'card', id: 'passcard', role: 'dialog' });
  card.style.width = 'min(680px, calc(100% - 24px))';
  card.append(make('h3', {}, 'Passes'));
  const way = make('select', { 'aria-label': 'Opens' });
  for (const m of now.machines) for (const w of m.ways) if (!w.why) way.append(make('option', { value: w.id, selected: !!now.visit && now.visit.way.id === w.id }, `${m.name} · ${w.label}`));
  const hours = make('input', { type: 'number', value: '2', min: '0.25', step: '0.25', 'aria-label': 'Hours' }), uses = make('input', { type: 'number', value: '0', min: '0', max: '10000', 'aria-label': 'Uses; 0: any number', title: 'How often it opens; 0: any number' }), who = make('input', { placeholder: 'for whom', 'aria-label': 'For whom' }), look = make('input', { type: 'checkbox', checked: true, id: 'looks' });
  hours.style.width = '80px'; uses.style.width = '80px';
  for (const e of [hours, uses, who, way]) { e.style.display = 'inline-block'; e.style.marginRight = '8px'; }
  who.style.width = '150px';
  card.append(make('p', {}, way), make('p', {}, hours, 'hours ', uses, 'uses ', who, look, make('span', {}, ' only look '), make('button', { class: 'own', onclick: () => now.live.send(JSON.stringify({ makePass: { way: Number(way.value), hours: Number(hours.value), uses: Number(uses.value), look: look.checked, note: who.value } })) }, 'Make a pass')), make('p', { id: 'passmade' }));
  const table = make('table', {}, make('tr', {}, ...['Opens', 'For', 'May', 'Until', 'Used', ''].map(t => make('th', {}, t))));
  for (const p of passes) table.append(make('tr', {}, make('td', {}, `${p.machine} · ${p.label}`), make('td', {}, p.note || '—'), make('td', {}, p.look ? 'look' : 'drive'), make('td', {}, p.state || new Date(p.until * 1000).toLocaleString([], { dateStyle: 'short', timeStyle: 'short' })), make('td', {}, p.most ? `${p.uses} of ${p.most}` : String(p.uses)), make('td', {}, p.state ? '' : make('button', { class: 'plain', onclick: () => now.live.send(JSON.stringify({ endPass: p.id })) }, 'end'))));
  if (passes.length) card.append(table); else card.append(make('p', { class: 'quiet' }, 'None yet. A pass is a link that opens one machine for a time, without an account.'));
  card.append(make('div', { class: 'row' }, make('button', { onclick: () => card.remove() }, 'Close')));
  $('stage').append(card);
}
function showPassMade(p) {
  now.live.send('{"passes":true}');
  setTimeout(() => {
    const box = $('passmade');
    if (!box) return;
    const link = location.origin + p.path;
    box.replaceChildren('The link, shown this once: ', make('code', {}, link), ' ', make('button', { class: 'plain', onclick: () => navigator.clipboard.writeText(link).then(() => note('Copied.')) }, 'copy'));
  }, 300);
}
on('passes', list => { passes = list; paintPasses(); });
on('passMade', showPassMade);
