"""Starting the window."""

from __future__ import annotations

import faulthandler
import sys
import traceback
from functools import partial
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon
from PyQt6.QtWidgets import QApplication, QWidget

from attentive_lens.desk import compiling
from attentive_lens.desk.log import open_log
from attentive_lens.desk.remembering import recall, recent_workspaces, remembered_theme
from attentive_lens.desktop.parts import ICONS, SIZES
from attentive_lens.desktop.recent import tell_recent
from attentive_lens.errors import LensError
from attentive_lens.plan.base import MODEL_SUFFIXES
from attentive_lens.window import look
from attentive_lens.window.frame import Frame
from attentive_lens.window.importing import ImportWindow
from attentive_lens.window.model_window import ModelWindow
from attentive_lens.window.pages import STAGES
from attentive_lens.window.presence import ask_to_front, bring_to_front
from attentive_lens.window.session import Session, open_session
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import is_workspace

WORKER_AFTER_MS, TELL_AFTER_MS, COMPILE_AFTER_MS = 300, 1500, 3000


def make_application() -> QApplication:
    """The application with our fonts and colours."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setApplicationName("attentive-lens")
    application.setApplicationDisplayName("Attentive Lens")
    application.setDesktopFileName("attentive-lens")
    icon = QIcon()
    for size in SIZES:
        icon.addFile(str(ICONS / f"{size}.png"))
    application.setWindowIcon(icon)
    application.setStyle("Fusion")
    application.setFont(look.font())
    theme = remembered_theme()
    look.use(theme if theme in look.THEMES else look.DESKTOP)
    look.restyle(application)
    hints = application.styleHints()
    if hints is not None and application is not existing:
        hints.colorSchemeChanged.connect(partial(follow_desktop, application))
    return application


def follow_desktop(application: QApplication, *_: object) -> None:
    """The desktop has other colours: so have all windows, unless somebody chose ours."""
    if look.chosen == look.DESKTOP:
        before = look.theme
        look.use(look.DESKTOP)
        if look.theme is not before:
            look.restyle(application)
            for window in application.topLevelWidgets():
                if isinstance(window, Frame):
                    window.restyled()


def make_frame(session: Session) -> Frame:
    """The window on a session; the worker starts soon after the first painting."""
    frame = Frame(session, open_place)
    remembered = recall(session.workspace.folder)
    frame.recall_size(remembered.get("size"))
    frame.painted.connect(lambda: QTimer.singleShot(WORKER_AFTER_MS, session.start_worker))
    has_model = any(view.has_model for view in session.runs.views.values())
    run, stage = remembered.get("run"), remembered.get("stage")
    if isinstance(run, int) and run in session.runs.views and session.runs.training is None:
        session.runs.choose(run)
    frame.show_stage(stage if isinstance(stage, str) and stage in STAGES else "results" if has_model else "images")
    return frame


def open_folder(folder: Path) -> Frame:
    """The window on a workspace: that of this process which has it open, if there is one."""
    for window in QApplication.topLevelWidgets():
        if (
            isinstance(window, Frame)
            and window.isVisible()
            and window.session.workspace.folder.resolve() == folder.resolve()
        ):
            return window
    frame = make_frame(open_session(folder))
    workspaces = [frame.session.workspace.folder, *recent_workspaces()]
    QTimer.singleShot(TELL_AFTER_MS, partial(tell_recent, list(dict.fromkeys(each.absolute() for each in workspaces))))
    return frame


def open_place(place: Path) -> QWidget:
    """The window on whatever somebody opens: a workspace, a model file, or else a source of images to import."""
    if is_workspace(place):
        return open_folder(place)
    if place.suffix.lower() in MODEL_SUFFIXES and place.is_file():
        return ModelWindow(place, open_folder)
    return ImportWindow(place, show_folder)


def show_folder(folder: Path) -> None:
    """A workspace that was just made, in a window of its own."""
    bring_to_front(open_folder(folder))


def open_window(place: str | None) -> int:
    """Open the window and return the exit code when it is closed."""
    _log_faults()
    if place is not None and is_workspace(Path(place)) and ask_to_front(Path(place)):
        sys.stdout.write("It is open already: its window was brought to the front.\n")
        return 0
    application = make_application()
    try:
        window = Welcome(open_place) if place is None else open_place(Path(place))
    except LensError as error:
        sys.stderr.write(f"{error}\n")
        return 1
    window.show()
    QTimer.singleShot(COMPILE_AFTER_MS, compiling.begin)
    return application.exec()


def _log_faults() -> None:
    """Faults of the program go to a log in the state folder, or where there is none to the terminal; the window stays.

    Qt ends a program whose slot raised, unless somebody takes note of it.
    """
    log = open_log()
    if log is not None:
        faulthandler.enable(log)

    def note(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        traceback.print_exception(kind, error, trace, file=log)
        if log is not None:
            log.flush()
        where = f"noted in {log.name}" if log is not None else "written to the terminal"
        sentence = f"The program has a fault, {where}. What you were doing may not be done: try it again."
        sys.stderr.write(f"{sentence}\n")
        for window in QApplication.topLevelWidgets():
            if isinstance(window, Frame):
                window.bottom.say(sentence, True)

    sys.excepthook = note
