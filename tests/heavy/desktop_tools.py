"""What tests ask of a Wayland desktop from the inside: its true picture, its clipboard, a tone.

  desktop_tools.py truth FILE       one frame of the first monitor without its pointer: four bytes a pixel, blue
                                    first; prints WIDTH HEIGHT
  desktop_tools.py clip-get         prints the clipboard's text
  desktop_tools.py clip-set TEXT    owns the clipboard until somebody else does; prints "owned"
  desktop_tools.py seat             holds a keyboard and a pointer, so that a visitor's first event is not lost
  desktop_tools.py tone SECONDS     plays 440 Hz
"""
import math
import os
import struct
import subprocess
import sys
import tempfile
import wave

from gi.repository import Gio, GLib

MUTTER = "org.gnome.Mutter."
CAST, DESK = MUTTER + "ScreenCast", MUTTER + "RemoteDesktop"
SESSION = DESK + ".Session"
TEXT_TYPES = ["text/plain;charset=utf-8", "UTF8_STRING", "text/plain"]
bus = Gio.bus_get_sync(Gio.BusType.SESSION)


def path_of(name):
    return "/" + name.replace(".", "/")


def call(name, path, interface, method, arguments=None):
    answer, files = bus.call_with_unix_fd_list_sync(
        name, path, interface, method, arguments, None, 0, 10000, None, None)
    return answer.unpack(), files


def desk(path, method, arguments=None):
    return call(DESK, path, SESSION, method, arguments)


def new_desk():
    return call(DESK, path_of(DESK), DESK, "CreateSession")[0][0]


def truth(file):
    state = call(MUTTER + "DisplayConfig", path_of(MUTTER + "DisplayConfig"), MUTTER + "DisplayConfig",
                 "GetCurrentState")[0]
    monitors = state[1]
    if not monitors:
        sys.exit("no monitor")
    width, height = next((m[1], m[2]) for m in monitors[0][1] if m[6].get("is-current"))
    session = call(CAST, path_of(CAST), CAST, "CreateSession", GLib.Variant("(a{sv})", ({},)))[0][0]
    stream = call(CAST, session, CAST + ".Session", "RecordMonitor",
                  GLib.Variant("(sa{sv})", (monitors[0][0][0], {"cursor-mode": GLib.Variant("u", 0)})))[0][0]
    loop, node = GLib.MainLoop(), []
    bus.signal_subscribe(CAST, CAST + ".Stream", "PipeWireStreamAdded", stream, None, 0,
                         lambda *a: (node.append(a[5].unpack()[0]), loop.quit()))
    call(CAST, session, CAST + ".Session", "Start")
    GLib.timeout_add_seconds(10, loop.quit)
    if not node:
        loop.run()
    if not node:
        sys.exit("no stream")
    code = subprocess.run(
        ["timeout", "20", "gst-launch-1.0", "-q", "pipewiresrc", f"path={node[0]}", "num-buffers=1",
         "do-timestamp=true", "!", "videoconvert", "!", "video/x-raw,format=BGRx", "!", "filesink",
         f"location={file}"], check=False).returncode
    call(CAST, session, CAST + ".Session", "Stop")
    if code == 0:
        print(width, height)
    sys.exit(code)


def clip_get():
    path, loop, owners = new_desk(), GLib.MainLoop(), []
    bus.signal_subscribe(DESK, SESSION, "SelectionOwnerChanged", path, None, 0,
                         lambda *a: (owners.append(a[5].unpack()[0]), loop.quit()))
    desk(path, "EnableClipboard", GLib.Variant("(a{sv})", ({},)))
    desk(path, "Start")
    GLib.timeout_add(2000, loop.quit)
    loop.run()
    types = owners[-1].get("mime-types", ()) if owners else ()
    types = types[0] if types and isinstance(types[0], list) else types
    wanted = next((t for t in TEXT_TYPES if t in types), None)
    if wanted is None:
        sys.exit("nothing to read")
    (index,), files = desk(path, "SelectionRead", GLib.Variant("(s)", (wanted,)))
    number = files.get(index)
    os.set_blocking(number, True)
    with os.fdopen(number, "rb") as stream:
        sys.stdout.buffer.write(stream.read())


def clip_set(text):
    path, loop = new_desk(), GLib.MainLoop()

    def transfer(*a):
        serial = a[5].unpack()[1]
        (handle,), files = desk(path, "SelectionWrite", GLib.Variant("(u)", (serial,)))
        number = files.get(handle)
        os.set_blocking(number, True)
        with os.fdopen(number, "wb") as stream:
            stream.write(text.encode())
        desk(path, "SelectionWriteDone", GLib.Variant("(ub)", (serial, True)))

    bus.signal_subscribe(DESK, SESSION, "SelectionTransfer", path, None, 0, transfer)
    desk(path, "EnableClipboard", GLib.Variant("(a{sv})", ({},)))
    desk(path, "Start")
    desk(path, "SetSelection", GLib.Variant("(a{sv})", ({"mime-types": GLib.Variant("as", TEXT_TYPES)},)))
    print("owned", flush=True)
    loop.run()


def seat():
    path = new_desk()
    desk(path, "Start")
    for down in (True, False):
        desk(path, "NotifyKeyboardKeysym", GLib.Variant("(ub)", (0xFFE1, down)))
    desk(path, "NotifyPointerMotionRelative", GLib.Variant("(dd)", (1.0, 1.0)))
    GLib.MainLoop().run()


def tone(seconds):
    with tempfile.NamedTemporaryFile(suffix=".wav") as file:
        with wave.open(file.name, "wb") as out:
            out.setnchannels(2)
            out.setsampwidth(2)
            out.setframerate(44100)
            values = (int(12000 * math.sin(2 * math.pi * 440 * i / 44100)) for i in range(int(44100 * seconds)))
            out.writeframes(b"".join(struct.pack("<hh", v, v) for v in values))
        sys.exit(subprocess.run(["pw-play", "--target", "kw-sink", file.name], check=False).returncode)


if __name__ == "__main__":
    verb, words = sys.argv[1], sys.argv[2:]
    {"truth": truth, "clip-get": clip_get, "clip-set": clip_set, "seat": seat,
     "tone": lambda s: tone(float(s))}[verb](*words)
