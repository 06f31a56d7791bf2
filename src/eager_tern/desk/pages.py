"""The leaves, and the pages that take their place: made when they are first shown, or in spare time."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Protocol, TypeVar

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QWidget

from eager_tern.desk.settings import Settings
from eager_tern.desk.start import Start
from eager_tern.session.commands import Commands
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.imports import Imports
from eager_tern.session.sending import Sending
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.session.sources import Sources
from eager_tern.session.sweeping import Sweeping

if TYPE_CHECKING:
    from eager_tern.desk.plate import HandsetLeaf
    from eager_tern.desk.preferences import Preferences
    from eager_tern.desk.send_leaf import SendLeaf
    from eager_tern.desk.sheet_leaf import SheetLeaf
    from eager_tern.desk.shots import ShotsLeaf
    from eager_tern.desk.signal_leaf import SignalLeaf
    from eager_tern.desk.stack_leaf import StackLeaf
    from eager_tern.desk.take_home import TakeHome
    from eager_tern.desk.timing_leaf import TimingLeaf

PAGES = ("signal", "timing", "stack", "sheet", "handset", "shots", "send", "home", "preferences")
Page = TypeVar("Page", bound=QWidget)


class Models(Protocol):
    """What the pages look at."""

    settings: Settings
    session: Session
    sources: Sources
    shot_plan: ShotPlan
    imports: Imports
    sending: Sending
    sweeping: Sweeping
    comparison: ComparisonModel
    commands: Commands


class Pages(QStackedWidget):
    """One page at a time.

    A page's module is imported when the page is made: the window is on the screen before most of them are.
    """

    said = pyqtSignal(str)
    leaf_asked = pyqtSignal(str)
    closed = pyqtSignal()  # a page that lay over the leaves
    preferred = pyqtSignal()

    def __init__(self, models: Models) -> None:
        super().__init__()
        self._models = models
        self._over: QWidget | None = None  # a page that is made anew each time
        self.start = self._added(Start(models.session, models.sources))
        self.start.said.connect(self.said)
        self._spare_time = QTimer(self)
        self._spare_time.timeout.connect(self._make_another)

    # The pages

    @cached_property
    def signal(self) -> SignalLeaf:
        from eager_tern.desk.signal_leaf import SignalLeaf

        page = SignalLeaf(self._models.session)
        page.said.connect(self.said)
        page.recorded.threshold_asked.connect(self._models.imports.read_with_threshold)
        page.hear_it.through = self._models.settings.loudspeaker
        return self._added(page)

    @cached_property
    def timing(self) -> TimingLeaf:
        from eager_tern.desk.timing_leaf import TimingLeaf

        page = TimingLeaf(self._models.session)
        page.sheet_asked.connect(self._describe_with)
        return self._added(page)

    @cached_property
    def stack(self) -> StackLeaf:
        from eager_tern.desk.stack_leaf import StackLeaf

        page = StackLeaf(self._models.session, self._models.comparison, self._models.commands)
        page.said.connect(self.said)
        return self._added(page)

    @cached_property
    def sheet(self) -> SheetLeaf:
        from eager_tern.desk.sheet_leaf import SheetLeaf

        page = SheetLeaf(self._models.session)
        page.said.connect(self.said)
        page.home_asked.connect(self._take_home)
        return self._added(page)

    @cached_property
    def handset(self) -> HandsetLeaf:
        from eager_tern.desk.plate import HandsetLeaf

        page = HandsetLeaf(self._models.session, self._models.sending)
        page.home_asked.connect(self._take_home)
        return self._added(page)

    @cached_property
    def shots(self) -> ShotsLeaf:
        from eager_tern.desk.shots import ShotsLeaf

        page = ShotsLeaf(self._models.session, self._models.shot_plan)
        page.troubled.connect(self.said)
        return self._added(page)

    @cached_property
    def send(self) -> SendLeaf:
        from eager_tern.desk.send_leaf import SendLeaf

        return self._added(SendLeaf(self._models.session, self._models.sending, self._models.sweeping))

    @cached_property
    def home(self) -> TakeHome:
        from eager_tern.desk.take_home import TakeHome

        page = TakeHome(self._models.session)
        page.said.connect(self.said)
        page.closed.connect(self.closed)
        return self._added(page)

    @cached_property
    def preferences(self) -> Preferences:
        from eager_tern.desk.preferences import Preferences

        page = Preferences(self._models.settings)
        page.closed.connect(self.closed)
        page.changed.connect(self.preferred)
        return self._added(page)

    def _added(self, page: Page) -> Page:
        self.addWidget(page)
        return page

    def make_in_spare_time(self) -> None:
        """Make the pages that are not there yet, one after the other, whenever nothing else is to be done."""
        self._spare_time.start()

    def _make_another(self) -> None:
        name = next((name for name in PAGES if not self.has(name)), None)
        if name is None:
            self._spare_time.stop()
        else:
            getattr(self, name)

    # What is shown

    def has(self, name: str) -> bool:
        """Whether a page has been made."""
        return name in vars(self)

    def shows(self, name: str) -> bool:
        return self.has(name) and self.currentWidget() is getattr(self, name)

    def show_page(self, name: str) -> None:
        self.setCurrentWidget(getattr(self, name))

    def show_over(self, page: QWidget) -> None:
        """A page that is made anew each time."""
        if self._over is not None:
            self.removeWidget(self._over)
            self._over.deleteLater()
        self._over = self._added(page)
        self.setCurrentWidget(page)

    @property
    def is_covered(self) -> bool:
        """Whether a page lies over the leaves that goes only when it is closed."""
        return self.currentWidget() is self._over or self.shows("home") or self.shows("preferences")

    # What is asked of them

    def obey(self) -> None:
        """What was preferred."""
        if self.has("signal"):
            self.signal.hear_it.through = self._models.settings.loudspeaker
        if self.has("timing"):
            self.timing.refresh()

    def dress_anew(self) -> None:
        """In the colours of the theme in force."""
        if self.has("sheet"):
            self.sheet.dress_anew()
        if self.has("signal"):
            self.signal.refresh()

    def _describe_with(self, unit_us: float) -> None:
        """Begin a sheet with a unit set by hand."""
        self.sheet.describe(unit_us)
        self.leaf_asked.emit("Sheet")

    def _take_home(self) -> None:
        self._models.commands.do("home")
