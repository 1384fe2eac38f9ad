"""Staying awake, notifications, and doing nothing without a bus.

A real message bus, with services that only record the calls.
"""

import os
import shutil
import socket
import subprocess
import threading
import time
from types import SimpleNamespace

import pytest
from jeepney import HeaderFields, MessageType, new_error, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection

from fascis.drives.care.removal import remove_safely
from fascis.drives.connected import Drives
from fascis.drives.system import udisks
from fascis.files.errors import EnvironmentTrouble
from fascis.machine import bus as buses
from fascis.machine.awake import Awake
from fascis.machine.notice import tell_desktop
from tests.clock import within
from tests.crossing.ways import plan_of

CONFIG = """<busconfig><type>session</type><listen>unix:path={path}</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*"/><allow receive_sender="*"/><allow
 own="*"/><allow user="*"/></policy></busconfig>"""


SERVICES = []


class Service:
    """Answers calls on a bus of its own, by a function of (member, arguments)."""

    def __init__(self, name, answer):
        self.asked, self._answer = [], answer
        self._bus = open_dbus_connection("SESSION", enable_fds=True)
        self._bus.send_and_get_reply(message_bus.RequestName(name))
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()
        SERVICES.append(self)

    def close(self):
        """Ends it; what it waits for ends with it."""
        self._bus.sock.shutdown(socket.SHUT_RDWR)
        self._thread.join(5)
        self._bus.close()

    def _serve(self):
        try:
            while True:
                message = self._bus.receive()
                if message.header.message_type is not MessageType.method_call:
                    continue
                member = message.header.fields[HeaderFields.member]
                self.asked.append((member, message.body))
                outcome = self._answer(member, message.body)
                if isinstance(outcome, str):
                    self._bus.send(new_error(message, outcome, "s", ("in use",)))
                else:
                    self._bus.send(new_method_return(message, *outcome))
        except (OSError, ValueError):
            return  # the bus ended


@pytest.fixture
def bus(tmp_path, monkeypatch):
    """A message bus that is both the system's and the session's."""
    if not shutil.which("dbus-daemon"):
        pytest.skip("needs dbus-daemon")
    path, config = tmp_path / "bus", tmp_path / "bus.conf"
    config.write_text(CONFIG.format(path=path))
    process = subprocess.Popen(
        ["dbus-daemon", f"--config-file={config}", "--nofork", "--print-address"],
        stdout=subprocess.PIPE,
    )
    try:
        assert process.stdout.readline().startswith(b"unix:")
        for name in ("DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"):
            monkeypatch.setenv(name, f"unix:path={path}")
        yield path
    finally:
        while SERVICES:
            SERVICES.pop().close()
        process.kill()
        process.wait()
        process.stdout.close()


@pytest.fixture(autouse=True)
def may_sleep():
    """Here it is asked for."""


@pytest.mark.parametrize("lid", [True, False])
def test_the_machine_is_kept_awake_while_something_runs(bus, lid):
    read, write = os.pipe()

    def answer(member, arguments):
        if "lid" in arguments[0] and not lid:
            return "org.freedesktop.DBus.Error.AccessDenied"
        return "h", (write,)

    service = Service("org.freedesktop.login1", answer)
    with Awake("The Weir is crossing") as awake:
        assert awake.with_lid is lid and "sleep" in awake.granted
        os.close(write)
        os.set_blocking(read, False)
        with pytest.raises(BlockingIOError):
            os.read(
                read, 1
            )  # somebody still holds the other end: that is what keeps the machine awake
    os.set_blocking(read, True)
    assert os.read(read, 1) == b"" and awake.granted == ""
    os.close(read)
    what, who, why, mode = service.asked[-1][1]
    assert (who, why, mode) == ("Fascis", "The Weir is crossing", "block") and what.startswith(
        "sleep:idle"
    )


def test_who_is_not_there_is_not_asked_twice(bus):
    gone = "org.freedesktop.DBus.Error.ServiceUnknown"
    service = Service("org.freedesktop.login1", lambda member, arguments: gone)
    with Awake("The Weir is crossing") as awake:
        assert awake.granted == ""
    assert len(service.asked) == 1


def test_the_desktop_is_notified_in_plain_text(bus):
    service = Service("org.freedesktop.Notifications", lambda member, arguments: ("u", (1,)))
    assert tell_desktop("The Weir waits for you", "<b>a.mov</b> & more", urgent=True)
    ((member, arguments),) = service.asked
    assert member == "Notify" and arguments[3:5] == (
        "The Weir waits for you",
        "&lt;b&gt;a.mov&lt;/b&gt; &amp; more",
    )
    assert arguments[6]["urgency"] == ("y", 2)


@pytest.mark.parametrize("address", ["", "unix:path=/nowhere/at/all", "nonsense"])
def test_without_a_bus_all_of_it_is_quietly_absent(monkeypatch, address):
    for name in ("DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"):
        monkeypatch.setenv(name, address or "unix:path=/nowhere")
    if not address:
        monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS")
    with Awake("The Weir is crossing") as awake:
        assert awake.granted == ""
    assert tell_desktop("The Weir", "has crossed") is False


def test_a_bus_without_services_does_not_matter(bus):
    with Awake("The Weir is crossing") as awake:
        assert awake.granted == ""
    assert tell_desktop("The Weir", "has crossed") is False


def test_a_drive_in_use_is_not_removed_and_that_is_reported(bus, mounted, monkeypatch):
    monkeypatch.setattr(udisks, "_LOOKED_AT", 0.15)
    where = mounted("ext4", 32)
    drive = Drives().at(where)
    service = Service(
        "org.freedesktop.UDisks2",
        lambda member, arguments: "org.freedesktop.UDisks2.Error.DeviceBusy",
    )
    with (
        (where / "open.mov").open("wb"),
        pytest.raises(
            EnvironmentTrouble,
            match=r"HERON could not be removed: Fascis itself has open.mov of it open. It is still",
        ),
    ):
        remove_safely(drive)
    asked = [member for member, _ in service.asked]
    assert len(asked) > 1 and set(asked) == {"Unmount"} and os.path.ismount(where)


def test_a_drive_that_somebody_just_looks_at_is_removed_a_moment_later(bus, mounted):
    drive = Drives().at(mounted("ext4", 32))
    busy = "org.freedesktop.UDisks2.Error.DeviceBusy"
    unmounted = [busy, busy, ("", ())]
    answers = {
        "Unmount": lambda: unmounted.pop(0),
        "Get": lambda: ("v", (("o", "/org/freedesktop/UDisks2/drives/heron"),)),
        "PowerOff": lambda: ("", ()),
    }
    service = Service("org.freedesktop.UDisks2", lambda member, arguments: answers[member]())
    assert remove_safely(drive) is True
    asked = [member for member, _ in service.asked]
    assert asked == ["Unmount"] * 3 + ["Get", "PowerOff"]


def test_a_drive_is_unmounted_and_switched_off(bus, mounted):
    drive = Drives().at(mounted("ext4", 32))
    answers = {
        "Unmount": ("", ()),
        "Get": ("v", (("o", "/org/freedesktop/UDisks2/drives/heron"),)),
        "PowerOff": ("", ()),
    }
    service = Service("org.freedesktop.UDisks2", lambda member, arguments: answers[member])
    assert remove_safely(drive) is True
    assert [member for member, _ in service.asked] == ["Unmount", "Get", "PowerOff"]
    answers["PowerOff"] = "org.freedesktop.UDisks2.Error.NotSupported"
    assert remove_safely(drive) is False  # unmounted it is


def test_removing_a_stand_in_takes_it_away_and_keeps_what_is_on_it(bench, library):
    (bench.heron / "older.mov").write_bytes(b"x")
    assert remove_safely(bench.workspace.drives.at(bench.heron))
    assert (
        not bench.workspace.drives.at(bench.heron).connected
        and (bench.heron / "older.mov").exists()
    )
    assert [p.code for p in plan_of(bench).problems] == ["away"]


def test_a_bus_that_hangs_is_not_waited_for(tmp_path, monkeypatch):
    with socket.socket(socket.AF_UNIX) as silent:
        silent.bind(str(tmp_path / "silent"))
        silent.listen()
        for name in ("DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"):
            monkeypatch.setenv(name, f"unix:path={tmp_path / 'silent'}")
        begun = time.monotonic()
        with Awake("The Weir is crossing") as awake:
            assert awake.granted == ""
        assert tell_desktop("The Weir", "has crossed") is False
        within(begun, 6)


def test_a_bus_that_answers_too_late_keeps_no_connection(monkeypatch):
    answers, closed = threading.Event(), threading.Event()

    def slowly(_bus, enable_fds):
        answers.wait(5)
        return SimpleNamespace(close=closed.set)

    monkeypatch.setattr(buses, "open_dbus_connection", slowly)
    monkeypatch.setattr(buses, "_PATIENCE", 0.05)
    with pytest.raises(TimeoutError, match="does not answer"):
        buses.opened(buses.SYSTEM)
    assert not closed.is_set()
    answers.set()
    assert closed.wait(5)
