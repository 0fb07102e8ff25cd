"""The one exception that reaches a person.

Anything that is not a `LensError` is a bug: it is logged with its trace, never shown as an answer.

```
LensError            what happened, why, what to do
├── BadFile          a file that could not be read or written
├── BadValue         a setting outside its range, or one that does not fit the others
│   └── BadUsage     a word, key or setting of a command that it does not know or cannot take (exit code 2)
└── NotHere          a workspace, run, image or class that does not exist
```
"""

from __future__ import annotations


class LensError(Exception):
    """Something a person can mend, said in one sentence.

    Parameters
    ----------
    what : str
        What happened and to what: «runs/0007 could not be opened».
    why : str
        The reason, without a full stop.
    remedy : str
        What to do now, without a full stop.
    """

    def __init__(self, what: str, why: str, remedy: str) -> None:
        super().__init__(what, why, remedy)
        self.what = what
        self.why = why
        self.remedy = remedy

    def __str__(self) -> str:
        stop = "" if self.remedy.endswith(("?", "!", ".")) else "."
        return f"{self.what}: {self.why}. {self.remedy}{stop}"

    def as_dict(self) -> dict[str, str]:
        """The three parts by name, as `--json` prints them."""
        return {"what": self.what, "why": self.why, "remedy": self.remedy}


class BadFile(LensError):
    """A file or folder that could not be read or written."""


class BadValue(LensError):
    """A setting outside its range, or one that does not fit the others."""


class BadUsage(BadValue):
    """A word or key that is not known, or a setting of a command that it cannot take: wrong usage, exit code 2."""


class NotHere(LensError):
    """A workspace, run, image or class that does not exist."""
