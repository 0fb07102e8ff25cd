"""Plans as files."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from pathlib import Path

from attentive_lens.core.files import write_text
from attentive_lens.errors import BadFile
from attentive_lens.plan.plan import Plan

MOST_BYTES = 4 << 20
"""Of a plan file."""


def write_plan(file: Path, plan: Plan) -> None:
    """A plan as a TOML file; `BadFile` if it cannot be written."""
    import tomlkit  # only here: who only reads plans does without it

    write_text(file, tomlkit.dumps(plan.write()))


@lru_cache(256)
def plan_of(file: Path, *_stamp: int) -> Plan:
    """As `read_plan`, once for each state of a file: a run's plan is written once and asked for often."""
    return read_plan(file)


def read_plan(file: Path) -> Plan:
    """A plan from a TOML file.

    Raises
    ------
    BadFile
        If it is missing or no TOML.
    BadValue
        If a setting is wrong; the message names it.
    """
    try:
        if file.stat().st_size > MOST_BYTES:
            raise BadFile(f"{file} is not a plan", f"it has more than {MOST_BYTES >> 20} MiB", "Name another file")
        return Plan.read(tomllib.loads(file.read_text("utf-8-sig")))
    except FileNotFoundError:
        raise BadFile(f"{file} could not be read", "there is no such file", "Check the path") from None
    except (OSError, UnicodeDecodeError) as error:
        raise BadFile(f"{file} could not be read", str(error), "Check the file") from None
    except tomllib.TOMLDecodeError as error:
        raise BadFile(f"{file} is not a plan", f"it is not valid TOML: {error}", "Mend that line") from None
    except (ValueError, RecursionError) as error:
        raise BadFile(f"{file} is not a plan", f"it cannot be read: {error}", "Mend it") from None
