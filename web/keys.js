// Browsers' names of keys as X11 keysyms.
const named = {
  Backspace: 0xff08, Tab: 0xff09, Enter: 0xff0d, Escape: 0xff1b, Delete: 0xffff, Home: 0xff50, ArrowLeft: 0xff51, ArrowUp: 0xff52,
  ArrowRight: 0xff53, ArrowDown: 0xff54, PageUp: 0xff55, PageDown: 0xff56, End: 0xff57, Insert: 0xff63, Pause: 0xff13,
  PrintScreen: 0xff61, ScrollLock: 0xff14, NumLock: 0xff7f, CapsLock: 0xffe5, ContextMenu: 0xff67, AltGraph: 0xfe03
};
const sided = { Shift: [0xffe1, 0xffe2], Control: [0xffe3, 0xffe4], Alt: [0xffe9, 0xffea], Meta: [0xffeb, 0xffec] };
const pad = { NumpadEnter: 0xff8d, NumpadAdd: 0xffab, NumpadSubtract: 0xffad, NumpadMultiply: 0xffaa, NumpadDivide: 0xffaf };

export function symOf(event) {
  if (pad[event.code]) return pad[event.code];
  if (sided[event.key]) return sided[event.key][event.location === 2 ? 1 : 0];
  if (named[event.key]) return named[event.key];
  if (/^F\d{1,2}$/.test(event.key)) return 0xffbd + Number(event.key.slice(1));
  const points = [...event.key];
  return points.length === 1 ? symOfPoint(points[0].codePointAt(0)) : 0;
}
export function symOfPoint(point) {
  if (point === 10 || point === 13) return 0xff0d;
  if (point === 9) return 0xff09;
  return point < 256 ? point : 0x01000000 + point;
}
