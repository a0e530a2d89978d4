"""A walk through the window as a screen reader does it: over the accessibility bus, knowing nothing but names, roles and values.

Run inside `dbus-run-session` and `xvfb-run`; prints what was found as JSON. `tests/test_screen_reader.py` starts it and judges.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jeepney import DBusAddress, new_method_call
from jeepney.io.blocking import open_dbus_connection

ATSPI, PROPERTIES = "org.a11y.atspi.", "org.freedesktop.DBus.Properties"
ROOT = ("org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root")
WAIT_S = 20.0
SHOWING = 25
"""The number of the state that a thing is on screen."""

PRESSED, RELEASED, SYMBOL = 0, 1, 3
KEYS = {"Return": 0xFF0D, "Left": 0xFF51, "Up": 0xFF52, "Right": 0xFF53, "Down": 0xFF54, "Escape": 0xFF1B, "F8": 0xFFC5}


@dataclass
class Thing:
    """Something on screen: its name, role and description as they were told."""

    at: tuple[str, str]
    name: str
    role: str
    description: str


class Reader:
    """Reads and does what the bus offers."""

    def __init__(self) -> None:
        self._session = open_dbus_connection("SESSION")
        address = self._session.send_and_get_reply(
            new_method_call(DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus"), "GetAddress")).body[0]
        self._bus = open_dbus_connection(address)

    def call(self, at: tuple[str, str], interface: str, method: str, signature: str | None = None, body: tuple[Any, ...] = ()) -> Any:
        message = new_method_call(DBusAddress(at[1], at[0], ATSPI + interface), method, signature, body)
        return self._bus.send_and_get_reply(message, timeout=WAIT_S).body

    def get(self, at: tuple[str, str], interface: str, name: str) -> Any:
        message = new_method_call(DBusAddress(at[1], at[0], PROPERTIES), "Get", "ss", (ATSPI + interface, name))
        return self._bus.send_and_get_reply(message, timeout=WAIT_S).body[0][1]

    def set_value(self, at: tuple[str, str], value: float) -> None:
        message = new_method_call(DBusAddress(at[1], at[0], PROPERTIES), "Set", "ssv", (ATSPI + "Value", "CurrentValue", ("d", value)))
        self._bus.send_and_get_reply(message, timeout=WAIT_S)

    def thing(self, at: tuple[str, str]) -> Thing:
        return Thing(at, self.get(at, "Accessible", "Name"), self.call(at, "Accessible", "GetRoleName")[0],
                     self.get(at, "Accessible", "Description"))

    def shown(self, at: tuple[str, str]) -> bool:
        low, _ = self.call(at, "Accessible", "GetState")[0]
        return bool(low >> SHOWING & 1)

    def everything(self, at: tuple[str, str]) -> Iterator[Thing]:
        """All that is on screen under something, as the eye goes."""
        for child in self.call(at, "Accessible", "GetChildren")[0]:
            if self.shown(child):
                yield self.thing(child)
                yield from self.everything(child)

    def labels(self, at: tuple[str, str]) -> list[str]:
        """The names of what labels something."""
        relations = self.call(at, "Accessible", "GetRelationSet")[0]
        return [self.get(target, "Accessible", "Name") for _, targets in relations for target in targets]

    def press(self, thing: Thing) -> None:
        names = [name.lower() for name, *_ in self.call(thing.at, "Action", "GetActions")[0]]
        self.call(thing.at, "Action", "DoAction", "i", (next(n for n, name in enumerate(names) if name in ("press", "toggle", "check")),))

    def focus(self, thing: Thing) -> None:
        self.call(thing.at, "Component", "GrabFocus")


def key(name: str) -> None:
    """Strike a key, as the keyboard would, in the window: there is no window manager to give it the focus."""
    subprocess.run(["xdotool", "search", "--onlyvisible", "--name", " · Bompla$", "windowfocus", "--sync"], check=True, timeout=WAIT_S,
                   stdout=subprocess.DEVNULL)
    subprocess.run(["xdotool", "key", name], check=True, timeout=WAIT_S)


def until(asked: Callable[[], Any]) -> Any:
    """What is asked, once it is true; raises where it never is."""
    end = time.monotonic() + WAIT_S
    while time.monotonic() < end:
        found = asked()
        if found:
            return found
        time.sleep(0.05)  # another process: there is nothing to wait on
    raise AssertionError("it never came true")


def walk(reader: Reader, out: dict[str, Any]) -> None:
    """Go through the stages, and do in each what the work is."""
    window = until(lambda: reader.call(ROOT, "Accessible", "GetChildren")[0])[0]

    def find(role: str, name: str) -> Thing | None:
        return next((one for one in reader.everything(window) if one.role == role and one.name.startswith(name)), None)

    def wanted(role: str, name: str) -> Thing:
        return until(lambda: find(role, name))

    stages = ("Bring in", "Slice", "Kit", "Groove", "Study", "Send out")
    until(lambda: (made := find("radio button", "Send out")) is not None and made.description)
    out["nameless"] = []
    for stage in stages:
        reader.press(wanted("radio button", stage))
        until(lambda stage=stage: reader.get(wanted("radio button", stage).at, "Accessible", "Description"))
        for one in reader.everything(window):
            if one.role in ("push button", "check box", "radio button", "slider", "spin box", "text", "combo box") and not one.name \
                    and not reader.labels(one.at):
                out["nameless"].append(f"{stage}: {one.role}")
            if one.role == "combo box" and not reader.labels(one.at):
                out["nameless"].append(f"{stage}: box {one.name}")
    reader.press(wanted("radio button", "Slice"))
    picture = wanted("filler", "Sound and cuts")
    reader.focus(picture)
    said = []
    for name in ("Right", "Right", "Left"):
        before = reader.get(picture.at, "Accessible", "Description")
        key(name)
        said.append(until(lambda before=before: (now := reader.get(picture.at, "Accessible", "Description")) != before and now))
    out["slices"] = said
    reader.press(wanted("radio button", "Kit"))
    pads = wanted("filler", "Pads")
    reader.focus(pads)
    key("Up")
    out["pad"] = until(lambda: (now := reader.get(pads.at, "Accessible", "Description")).startswith("pad 5") and now)
    level = wanted("slider", "Level")
    out["level before"] = level.description
    reader.set_value(level.at, reader.get(level.at, "Value", "MinimumValue"))
    out["level after"] = until(lambda: (now := reader.get(level.at, "Accessible", "Description")) != level.description and now)
    reader.press(wanted("push button", "Undo"))
    out["level undone"] = until(lambda: (now := reader.get(level.at, "Accessible", "Description")) == level.description and now)
    reader.press(wanted("radio button", "Groove"))
    lanes = wanted("filler", "Pattern")
    reader.focus(lanes)
    key("Right")
    out["cursor"] = until(lambda: reader.get(lanes.at, "Accessible", "Description"))
    key("Return")
    out["drawn"] = until(lambda: (now := reader.get(lanes.at, "Accessible", "Description")) != out["cursor"] and now)
    hits = wanted("radio button", "Groove").description
    key("Delete")
    out["hits"] = [hits, until(lambda: (now := wanted("radio button", "Groove").description) != hits and now)]
    reader.press(wanted("push button", "Table"))
    table = wanted("table", "Hits")
    out["cells"] = [one.name for one in reader.everything(table.at)][:14]


def main() -> None:
    """Start the application, walk, and say what was found."""
    command = [sys.executable, "-P", "-c", "from bompla.cli import main; main()", "window", "--demo"]
    application = subprocess.Popen(command, env={**os.environ, "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1", "QT_QPA_PLATFORM": "xcb"})
    out: dict[str, Any] = {}
    try:
        walk(Reader(), out)
    finally:
        application.terminate()
        application.wait(WAIT_S)
        Path(sys.argv[1]).write_text(json.dumps(out), encoding="utf-8")


if __name__ == "__main__":
    main()
