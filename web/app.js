// The page: signing in, and the gateway's news.
import { $, note, post, now, socketUrl, tell } from '/page.js';
import { closeVisit, openWay, showEmpty } from '/visit.js';
import '/roster.js';
import '/passes.js';
import '/recordings.js';

let liveDelay = 1000;

function showSignIn(why) {
  now.me = null;
  closeVisit();
  if (now.live) { now.live.onclose = null; now.live.close(); now.live = null; }
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
  now.me = who;
  $('signin').hidden = true;
  $('top').hidden = $('main').hidden = false;
  $('gate').textContent = who.gate;
  $('me').textContent = who.pass ? `${who.name} · pass` : who.name;
  $('passes').hidden = who.pass || who.role === 'look';
  $('recordings').hidden = who.pass || who.role !== 'keeper';
  $('go').hidden = who.pass;
  document.title = who.gate + ' · Kettle Window';
  if (!now.visit) showEmpty();
  connectLive();
}
function connectLive() {
  now.live = new WebSocket(socketUrl('/live'));
  const ping = setInterval(() => now.live.readyState === 1 && now.live.send('{"ping":0}'), 15000);
  now.live.onopen = () => { liveDelay = 1000; };
  now.live.onmessage = e => takeLive(JSON.parse(e.data));
  now.live.onclose = async () => {
    clearInterval(ping);
    now.live = null;
    if (!now.me) return;
    note('The gate is not reached. Trying again…');
    setTimeout(comeBack, liveDelay);
    liveDelay = Math.min(liveDelay * 2, 15000);
  };
}
async function comeBack() {
  const answer = await fetch('/me').catch(() => null);
  if (!answer) { setTimeout(comeBack, liveDelay); liveDelay = Math.min(liveDelay * 2, 15000); return; }
  if (answer.status === 200) { now.me = await answer.json(); connectLive(); if (now.visit && now.visit.lost) now.visit.again(); }
  else showSignIn('Your sign-in has ended. Sign in again.');
}
function takeLive(m) {
  if (m.me) now.me = m.me;
  if (m.machines) { now.machines = m.machines; tell('roster'); openFromPass(); }
  if (m.signedOut) showSignIn('Your sign-in has ended.');
  if (m.error) note(m.error);
  if (m.passMade) tell('passMade', m.passMade);
  if (m.passes) tell('passes', m.passes);
  if (m.recordings) tell('recordings', m.recordings);
}
function openFromPass() {
  if (!now.me || !now.me.pass || now.visit) return;
  const way = now.machines.flatMap(m => m.ways.map(w => ({ m, w }))).find(x => x.w.id === now.me.way);
  if (way && !way.w.why) openWay(way.m, way.w);
}
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
