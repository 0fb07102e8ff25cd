"""Everything that decides a run. Once run, a plan never changes; `changed` makes a new one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from attentive_lens.errors import BadValue
from attentive_lens.plan.blocks import read_network
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.recipe import DEFAULT_RECIPE, STEPS, RecipeStep
from attentive_lens.plan.settings import Base, Preparation, Split, Training
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.values import Value, unknown_word

FORMAT = 1

SECTIONS: dict[str, type[Value]] = {"split": Split, "preparation": Preparation, "training": Training}
_OUTLINE = "«attentive-lens plan new» writes a whole plan"
_WHOLE = {"name", "seed", "network", "recipe", "base.run", "base.until", "base.frozen"}


@dataclass(frozen=True)
class Plan:
    """A plan: split, preparation, recipe, network, base, training and seed.

    Raises
    ------
    BadValue
        If the network does not fit the prepared image, the base names a layer it has not, or a step stands twice
        in the recipe.
    """

    name: str = "three blocks"
    seed: int = 7
    split: Split = Split()
    preparation: Preparation = Preparation()
    recipe: tuple[RecipeStep, ...] = DEFAULT_RECIPE
    network: NetworkPlan = STARTERS["three blocks"].network
    base: Base | None = None
    training: Training = Training()

    def __post_init__(self) -> None:
        if isinstance(self.seed, bool) or not isinstance(self.seed, int) or not 0 <= self.seed < 2**63:
            why = "a whole number from 0 to 2⁶³ − 1 is needed"
            raise BadValue("plan.seed", f"{why}, got {self.seed!r:.30}", "Change it")
        if not isinstance(self.name, str) or not self.name.strip() or not self.name.isprintable():
            raise BadValue("plan.name", "a plan needs a name of printable letters", "Give it one")
        if len(self.name) > 200:
            raise BadValue("plan.name", "a name has at most 200 letters", "Shorten it")
        self.network.facts(self.preparation.shape)
        if self.base is not None:
            self.network.node(self.base.until)
        kinds = [step.kind for step in self.recipe]
        for kind in kinds:
            if kinds.count(kind) > 1:
                raise BadValue("plan.recipe", f"{kind} stands in it twice", "Make it one step with one range")

    @property
    def frozen(self) -> frozenset[str]:
        """Names of the layers that keep their weights."""
        if self.base is None or not self.base.frozen:
            return frozenset()
        return self.network.up_to(self.base.until)

    def with_recipe(self, recipe: tuple[RecipeStep, ...]) -> Plan:
        """A copy with another recipe."""
        return replace(self, recipe=recipe)

    @classmethod
    def read(cls, table: Mapping[str, Any]) -> Plan:
        """From a plan file's table.

        Settings left out stand at their defaults, but nothing is done that is not written: without a recipe no image
        is changed, and a plan without a network is refused. ``network`` may name a starting one.
        """
        known = {"format", "name", "seed", "recipe", "network", "base", *SECTIONS}
        for key in table:
            if key not in known:
                raise unknown_word("plan", key, known)
        if table.get("format", FORMAT) != FORMAT:
            raise BadValue(
                f"The plan has format {table['format']!r:.30}",
                f"this version reads format {FORMAT}",
                "Open it with the version that wrote it",
            )
        parts: dict[str, Any] = {key: table[key] for key in ("name", "seed") if key in table}
        for key, kind in SECTIONS.items():
            if key in table:
                parts[key] = kind.read(_table(key, table[key]))
        if "base" in table:
            parts["base"] = Base.read(_table("base", table["base"]))
        parts["recipe"] = read_recipe(table.get("recipe", ()))
        network = table.get("network", ())
        if isinstance(network, str):
            parts["network"] = _starter(network)
            parts.setdefault("name", network)
            return cls(**parts)
        if not network:
            remedy = f"Add [[network]] sections, or the line «network = 'three blocks'» at its top; {_OUTLINE}"
            raise BadValue("The plan has no network", "there is nothing in it that could be trained", remedy)
        parts["network"] = read_network(network)
        return cls(**parts)

    def write(self) -> dict[str, Any]:
        """The table that `read` makes this plan from."""
        table: dict[str, Any] = {"format": FORMAT, "name": self.name, "seed": self.seed}
        for key in SECTIONS:
            table[key] = getattr(self, key).write()
        if self.base is not None:
            table["base"] = self.base.write()
        table["recipe"] = [{"change": step.kind, **step.write()} for step in self.recipe]
        table["network"] = self.network.write()
        return table

    def changed(self, settings: Mapping[str, Any]) -> Plan:
        """A copy with dotted settings changed: ``{"training.epochs": 5, "network": "two blocks"}``.

        ``network`` takes the name of a starting network (the plan takes it too, unless it has one of its own),
        ``recipe`` the word ``"none"`` or ``"default"``.
        """
        plan = self
        base = self.base.write() if self.base else {}
        for key, value in settings.items():
            section, _, name = key.partition(".")
            if section in SECTIONS and name:
                part = getattr(plan, section)
                if name not in part.specs():
                    raise unknown_word("plan", key, frozenset(f"{section}.{known}" for known in part.specs()))
                plan = replace(plan, **{section: part.with_(**{name: value})})
            elif key in ("name", "seed"):
                plan = replace(plan, **{key: value})
            elif key == "network":
                renamed = value if plan.name in STARTERS else plan.name
                plan = replace(plan, network=_starter(value), name=renamed)
            elif key == "recipe" and isinstance(value, str) and value in ("none", "default"):
                plan = replace(plan, recipe=DEFAULT_RECIPE if value == "default" else ())
            elif section == "base" and name:
                base[name] = value
            else:
                sections = {f"{s}.{n}" for s, kind in SECTIONS.items() for n in kind.specs()}
                raise unknown_word("plan", key, sections | _WHOLE)
        return replace(plan, base=Base.read(base)) if base else plan


def _starter(name: Any) -> NetworkPlan:
    if not isinstance(name, str) or name not in STARTERS:
        raise unknown_word("plan.network", str(name)[:60], frozenset(STARTERS))
    return STARTERS[name].network


def read_recipe(rows: Any) -> tuple[RecipeStep, ...]:
    """Steps from the ``[[recipe]]`` tables of a plan file; whatever else is given is a `BadValue`."""
    if isinstance(rows, str | Mapping) or not isinstance(rows, Sequence):
        raise BadValue("plan.recipe", f"a list of steps is needed, got {rows!r:.60}", "Write [[recipe]] sections")
    return tuple(_step(_table("recipe", row)) for row in rows)


def _step(row: Mapping[str, Any]) -> RecipeStep:
    kind = row.get("change")
    if not isinstance(kind, str) or kind not in STEPS:
        raise unknown_word("recipe.change", str(kind)[:60], frozenset(STEPS))
    return STEPS[kind].read({key: value for key, value in row.items() if key != "change"})


def _table(key: str, value: Any) -> Mapping[str, Any]:
    if not isinstance(value, Mapping):
        raise BadValue(f"plan.{key}", f"a section is needed, got {value!r:.60}", f"Write it under [{key}]")
    return value
