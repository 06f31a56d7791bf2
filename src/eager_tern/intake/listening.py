"""A source that is open: polled in a thread of its own, recorded, waited for, or merely heard."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Sequence
from threading import Lock, Thread

from msgspec import Struct

from eager_tern.devices.live import LiveDevice
from eager_tern.devices.serial_port import Received
from eager_tern.errors import InputError
from eager_tern.intake.arming import Arming, Ring
from eager_tern.intake.health import Health, Trouble
from eager_tern.intake.service import CaptureService
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats

ENDS_IN_S = 2.0
log = logging.getLogger(__name__)


class SourceNews(Struct, frozen=True):
    """What one look at a source brought, for a level to be drawn and the user to be told.

    ``pulses`` were heard; ``level`` is the highest sample, as a part of full scale, where there are samples; ``words``
    say what happened to the line itself; ``turned`` tells that it has begun or ceased to record, or to hear a signal.
    ``ended`` is why the source is gone, None while it is there.
    """

    pulses: int = 0
    level: float | None = None
    words: str = ""
    turned: bool = False
    ended: str | None = None


class _Recording(Struct, frozen=True):
    """Into which gadget, under which name, read with what."""

    gadget_id: int
    name: str
    sheets: Sequence[Sheet]


class Listening:
    """Polls a source until it is closed or the source is gone. ``tell`` is called in its thread.

    All that comes goes to the capture service while it records; an open ear keeps the last half minute instead.
    """

    def __init__(
        self, open_device: Callable[[], LiveDevice], service: CaptureService, tell: Callable[[SourceNews], None]
    ) -> None:
        self.device: LiveDevice | None = None  # while it is open
        self._open_device = open_device
        self._service = service
        self._tell = tell
        self._lock = Lock()
        self._health = Health(time.monotonic())
        self._ring = Ring()
        self._recording: _Recording | None = None
        self._arming: Arming | None = None
        self._begun = False  # whether a take of the service is open
        self._stopping = False
        self._thread = Thread(target=self._run, name="listening", daemon=True)
        self._thread.start()

    # What others ask for

    def record(self, gadget_id: int, name: str, sheets: Sequence[Sheet], armed: bool = False) -> None:
        """Record from now on; ``armed``: from the first edge on, until nothing has come for a while, and so on."""
        with self._lock:
            self._recording = _Recording(gadget_id, name, sheets)
            self._arming = Arming() if armed else None
            if not armed:
                self._begin()

    def rest(self) -> None:
        """Record no more, but go on hearing."""
        with self._lock:
            self._end_take()
            self._recording = self._arming = None

    def use_sheets(self, sheets: Sequence[Sheet]) -> None:
        """What the takes that are begun from now on are read with."""
        with self._lock:
            if self._recording is not None:
                self._recording = _Recording(self._recording.gadget_id, self._recording.name, sheets)

    def have_missed(self, gadget_id: int, name: str, sheets: Sequence[Sheet]) -> None:
        """Make a take of what was heard lately while nothing was recorded."""
        with self._lock:
            if self._recording is None and self._ring.heard:
                self._service.begin(gadget_id, name, sheets)
                self._service.hear(self._ring.empty())
                self._service.end()

    def close(self) -> None:
        """Stop, with everything kept that has arrived."""
        self._stopping = True
        self._thread.join(ENDS_IN_S)
        self.rest()

    # How it does

    @property
    def waiting(self) -> bool:
        """Whether it listens but records nothing yet."""
        return self._arming is not None and not self._arming.recording

    @property
    def heard(self) -> bool:
        """Whether something could be had that was missed."""
        with self._lock:
            return self._ring.heard

    def condition(self) -> tuple[str, list[Trouble]]:
        """In a line who it is and when it was heard last, and what is wrong, the worst first."""
        now = time.monotonic()
        with self._lock:
            return self._health.state(now), self._health.troubles(now)

    def caught(self) -> None:
        """A press was read in what came."""
        with self._lock:
            self._health.caught(time.monotonic())

    # The thread

    def _run(self) -> None:
        reason: str | None = None
        device: LiveDevice | None = None
        try:
            device = self.device = self._open_device()
            while not self._stopping:
                self._take_in(device.poll())
        except InputError as error:
            reason = str(error)
        except Exception as error:
            log.exception("listening met a fault")
            reason = f"Listening has stopped: {error}. What came before is kept; the log says more."
        finally:
            self.device = None
            if device is not None:
                device.close()
        if reason is not None and not self._stopping:
            with self._lock:
                self._end_take()
                self._recording = self._arming = None
            self._tell(SourceNews(ended=reason))

    def _take_in(self, received: Received) -> None:
        with self._lock:
            before = self.waiting, self._ring.heard
            self._health.take_in(received, time.monotonic())
            for signed_us in received.durations:
                self._pass_on(signed_us)
            turned = before != (self.waiting, self._ring.heard)
        pulses = sum(int(d.size) for d in received.durations)
        if pulses or received.news or received.level is not None or turned:
            self._tell(SourceNews(pulses, received.level, received.news, turned))

    def _pass_on(self, signed_us: Floats) -> None:
        """Durations to the take, to what waits for the first edge, or to the ring."""
        arming = self._arming
        if self._recording is None:
            self._ring.keep(signed_us)
        elif arming is None:
            self._service.hear(signed_us)
        else:
            recorded = arming.let_through(signed_us)
            if recorded.size:
                if not self._begun:
                    self._begin()
                self._service.hear(recorded)
            if arming.quiet:
                arming.rest()
                self._end_take()

    def _begin(self) -> None:
        assert self._recording is not None
        self._service.begin(self._recording.gadget_id, self._recording.name, self._recording.sheets)
        self._begun = True

    def _end_take(self) -> None:
        if self._begun:
            self._service.end()
            self._begun = False
