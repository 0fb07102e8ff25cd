"""Starting the window."""

from __future__ import annotations

import faulthandler
import sys
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from attentive_lens.desk import compiling
from attentive_lens.desk.log import open_log
from attentive_lens.desk.remembering import recall, remembered_theme
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages import STAGES
from attentive_lens.window.session import Session, open_session
from attentive_lens.window.welcome import Welcome

WORKER_AFTER_MS, COMPILE_AFTER_MS = 300, 3000


def make_application() -> QApplication:
    """The application with our fonts and colours."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setApplicationName("attentive-lens")
    application.setApplicationDisplayName("Attentive Lens")
    application.setStyle("Fusion")
    application.setFont(look.font())
    theme = remembered_theme()
    look.use(theme if theme in look.THEMES else "light")
    look.restyle(application)
    return application


def make_frame(session: Session) -> Frame:
    """The window on a session; the worker starts soon after the first painting."""
    frame = Frame(session, open_folder)
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
    """The window on a workspace."""
    return make_frame(open_session(folder))


def open_window(workspace: str | None) -> int:
    """Open the window and return the exit code when it is closed."""
    _log_faults()
    application = make_application()
    try:
        if workspace is None:
            window: Frame | Welcome = Welcome(open_folder)
        else:
            window = open_folder(Path(workspace))
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
