// What every part of the page uses: making elements, notes, requests, and what is known of this sign-in.
export const $ = id => document.getElementById(id);
export const make = (name, attributes = {}, ...children) => {
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

/// Who is signed in, the machines they reach, the socket of news, and the machine that is open.
export const now = { me: null, machines: [], live: null, visit: null };

export function note(text) {
  const n = make('div', {}, text);
  $('notes').append(n);
  setTimeout(() => n.remove(), 6000);
}
export async function post(path, body) {
  const answer = await fetch(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) });
  return { status: answer.status, body: await answer.json().catch(() => ({})) };
}
export const socketUrl = path => `wss://${location.host}${path}`;
export const clock = seconds => new Date(seconds * 1000).toTimeString().slice(0, 5);

// Parts tell each other of what happened without knowing each other.
const listeners = {};
export const on = (what, act) => { (listeners[what] ??= []).push(act); };
export const tell = (what, ...more) => { for (const act of listeners[what] || []) act(...more); };

const words = { answering: 'answers', silent: 'listens, says nothing', off: 'not answering', unknown: 'not looked at' };
export function glyph(state) {
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
