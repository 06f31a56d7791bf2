"""The distribution's broker, for tests: started, killed and started again on one port."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from threading import Lock

import paho.mqtt.client as mqtt
from paho.mqtt.enums import CallbackAPIVersion

MOSQUITTO = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
USER, PASSWORD = "ringer", "Grågås-12"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def until(true: Callable[[], object], seconds: float = 10.0) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it did not come"
        time.sleep(0.02)


class Mosquitto:
    """Stands on a port of its own; what it keeps is kept when it is killed, as on a disk."""

    def __init__(self, folder: Path, *, password: bool = False, tls: tuple[Path, Path] | None = None) -> None:
        assert Path(MOSQUITTO).exists(), "mosquitto is a test's need, which the set-up installs"
        self.port = free_port()
        lines = [f"listener {self.port} 127.0.0.1", f"allow_anonymous {str(not password).lower()}", "persistence false"]
        if password:
            secrets = folder / "secrets"
            tool = MOSQUITTO.replace("sbin", "bin") + "_passwd"
            subprocess.run([tool, "-b", "-c", str(secrets), USER, PASSWORD], check=True, capture_output=True)
            lines.append(f"password_file {secrets}")
        if tls is not None:
            lines += [f"certfile {tls[0]}", f"keyfile {tls[1]}"]
        self._conf = folder / "broker.conf"
        self._conf.write_text("\n".join([*lines, "user root", ""]))
        self._process: subprocess.Popen[bytes] | None = None
        self.start()

    def start(self) -> None:
        command = [MOSQUITTO, "-c", str(self._conf)]
        self._process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until(self._answers)

    def _answers(self) -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", self.port)) == 0

    def kill(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()


class Home:
    """Whoever is on the other side: hears all topics, and says things."""

    def __init__(self, port: int, user: str = "", password: str = "") -> None:
        self._lock = Lock()
        self._heard: list[tuple[str, str, bool]] = []
        self.client = mqtt.Client(CallbackAPIVersion.VERSION2)
        if user:
            self.client.username_pw_set(user, password)
        self.client.reconnect_delay_set(1, 1)
        self.client.on_connect = lambda client, *_: client.subscribe("#", 1)
        self.client.on_message = self._hear
        self.ready = False
        self.client.on_subscribe = self._on_subscribe
        self.client.connect("127.0.0.1", port)
        self.client.loop_start()
        until(lambda: self.ready)

    def _on_subscribe(self, *_: object) -> None:
        self.ready = True

    def _hear(self, client: object, data: object, message: mqtt.MQTTMessage) -> None:
        with self._lock:
            self._heard.append((message.topic, message.payload.decode(errors="replace"), bool(message.retain)))

    def heard(self, topic: str) -> list[str]:
        with self._lock:
            return [payload for at, payload, _ in self._heard if at == topic]

    def say(self, topic: str, payload: str | bytes, retain: bool = False) -> None:
        self.client.publish(topic, payload, 1, retain).wait_for_publish(5)

    def close(self) -> None:
        self.client.disconnect()
        self.client.loop_stop()
