"""What happens to an error that nobody expected: it is logged and said, and the window goes on."""

from __future__ import annotations

import faulthandler
import logging
import logging.handlers
import sys
import threading
from collections.abc import Callable
from types import TracebackType

from eager_tern.places import log_path

LARGEST = 1_000_000  # bytes of a log, of which one older is kept
log = logging.getLogger(__name__)


def start_log() -> None:
    """Log to a file in the user's state folder; where that is not to be had, to standard error."""
    handler: logging.Handler
    try:
        log_path().parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(log_path(), maxBytes=LARGEST, backupCount=1, encoding="utf-8")
        faulthandler.enable(log_path().with_suffix(".crash").open("a"))
    except OSError:
        handler = logging.StreamHandler()
        faulthandler.enable()
    handler.setFormatter(logging.Formatter("%(asctime)s %(name)s %(levelname)s %(message)s"))
    logging.basicConfig(level=logging.WARNING, handlers=[handler])


def catch(say: Callable[[str], None]) -> None:
    """Have unexpected errors logged, from threads too, and ``say`` called in the thread that met one."""

    def met(kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        log.error("an error that nobody expected", exc_info=(kind, error or kind(), trace))
        say(
            f"Something went wrong ({kind.__name__}). Everything recorded is kept; "
            "what you did last may not have worked."
        )

    sys.excepthook = met
    threading.excepthook = lambda args: met(args.exc_type, args.exc_value, args.exc_traceback)
