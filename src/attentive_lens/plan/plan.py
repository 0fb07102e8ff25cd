"""Everything that decides a run. Once run, a plan never changes; `changed` makes a new one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from typing import Any

from attentive_lens.core.values import Kind, Value, of_kind, read_kind, unknown_word
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION, STEPS, AugmentationStep
from attentive_lens.plan.averaging import AVERAGING, AveragingSettings, NoAveraging
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import read_network
from attentive_lens.plan.encoders import ENCODERS, Encoder
from attentive_lens.plan.generators import GENERATORS, Generator
from attentive_lens.plan.initialisations import INITIALISATIONS, He, InitialisationSettings, Orthogonal
from attentive_lens.plan.losses import LOSSES, CrossEntropy, LossSettings, SigmoidCrossEntropy
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.optimisers import OPTIMISERS, Adam, OptimiserSettings
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.schedules import SCHEDULES, Constant, ScheduleSettings
from attentive_lens.plan.split import Split
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.stopping import Stopping
from attentive_lens.plan.tasks import TASKS, Classify, TaskSettings
from attentive_lens.plan.training import UNIFORM, Training

FORMAT = 1

SECTIONS: dict[str, type[Value]] = {
    "split": Split,
    "preprocessing": Preprocessing,
    "training": Training,
    "stopping": Stopping,
}
"""Parts of a plan that are one value each."""
CHOICES: dict[str, Mapping[str, type[Kind]]] = {
    "task": TASKS,
    "optimiser": OPTIMISERS,
    "schedule": SCHEDULES,
    "loss": LOSSES,
    "initialisation": INITIALISATIONS,
    "averaging": AVERAGING,
}
"""Parts of a plan that are one of a table's values each, by the ``kind`` in their section."""
PAIRED: dict[str, Mapping[str, type[Kind]]] = {
    "discriminator_optimiser": OPTIMISERS,
    "discriminator_schedule": SCHEDULES,
    "discriminator_initialisation": INITIALISATIONS,
}
"""Likewise, of plans whose task trains a pair: how its second network, the discriminator, learns."""
DRAWING: dict[str, Encoder | Generator] = {**ENCODERS, **GENERATORS}
"""Starting networks that draw; each brings its task."""
_OUTLINE = "«attentive-lens plan new» writes a whole plan"
_WHOLE = {"name", "seed", "network", "augmentation", *(f"base.{name}" for name in Base.specs())}


@dataclass(frozen=True)
class Plan:
    """A plan: task, split, preprocessing, augmentation, network, base, training, when it stops, and seed.

    Raises
    ------
    BadValue
        If the network does not fit the prepared image or the task, the base names a layer it has not, or a step
        stands twice in the augmentation.
    """

    name: str = "three blocks"
    seed: int = 7
    split: Split = Split()
    preprocessing: Preprocessing = Preprocessing()
    augmentation: tuple[AugmentationStep, ...] = DEFAULT_AUGMENTATION
    network: NetworkPlan = STARTERS["three blocks"].network
    base: Base | None = None
    training: Training = Training()
    stopping: Stopping = Stopping()
    optimiser: OptimiserSettings = Adam()
    schedule: ScheduleSettings = Constant()
    loss: LossSettings = CrossEntropy()
    initialisation: InitialisationSettings = He()
    averaging: AveragingSettings = NoAveraging()
    task: TaskSettings = Classify()
    discriminator_optimiser: OptimiserSettings = Adam(learning_rate=1e-3, beta1=0.0, beta2=0.9)
    discriminator_schedule: ScheduleSettings = Constant()
    discriminator_initialisation: InitialisationSettings = Orthogonal(gain=1.0)

    def __post_init__(self) -> None:
        if isinstance(self.seed, bool) or not isinstance(self.seed, int) or not 0 <= self.seed < 2**63:
            why = "a whole number from 0 to 2⁶³ − 1 is needed"
            raise BadValue("plan.seed", f"{why}, got {self.seed!r:.30}", "Change it")
        if not isinstance(self.name, str) or not self.name.strip() or not self.name.isprintable():
            raise BadValue("plan.name", "a plan needs a name of printable letters", "Give it one")
        if len(self.name) > 200:
            raise BadValue("plan.name", "a name has at most 200 letters", "Shorten it")
        self.network.facts(self.preprocessing.shape)
        if (error := self.task.misfit(self.network, self.preprocessing)) is not None:
            raise error
        if (error := self.task.unfit_training(self.loss, self.training, self.stopping)) is not None:
            raise error
        if self.base is not None:
            if not self.base.until:
                raise BadValue("base.until", "it names no layer", "Name the last layer that is taken over")
            self.network.node(self.base.until)
        kinds = [step.kind for step in self.augmentation]
        for kind in kinds:
            if kinds.count(kind) > 1:
                raise BadValue("plan.augmentation", f"{kind} stands in it twice", "Make it one step with one range")

    @property
    def frozen(self) -> frozenset[str]:
        """Names of the layers that keep their weights."""
        if self.base is None or not self.base.frozen:
            return frozenset()
        return self.network.up_to(self.base.until)

    @property
    def choices(self) -> dict[str, Mapping[str, type[Kind]]]:
        """Its parts that are one of a table's values each."""
        return CHOICES | PAIRED if self.task.is_pair else CHOICES

    @property
    def idle(self) -> frozenset[str]:
        """Its settings, or whole sections, that have no part in what is trained."""
        return self.task.idle.union(() if self.task.is_pair else PAIRED)

    def units(self, classes: int) -> int:
        """Scores that its network gives, for so many classes."""
        return self.task.units(self.loss, classes)

    def network_for(self, classes: int) -> NetworkPlan:
        """Its network as it is for so many classes."""
        return self.network.for_classes(classes, self.units(classes))

    @property
    def outputs(self) -> str:
        """What makes answers of what its network gives, as it stands in a model file."""
        return self.task.output(self.loss)

    @property
    def best_by(self) -> str:
        """The measure by which its best epoch is chosen."""
        return self.task.best_by(self.training.best_by)

    def with_network(self, network: NetworkPlan) -> Plan:
        """A copy with another network; `BadValue` if it does not fit the prepared images."""
        return replace(self, network=network)

    def with_augmentation(self, augmentation: tuple[AugmentationStep, ...]) -> Plan:
        """A copy with another augmentation."""
        return replace(self, augmentation=augmentation)

    @classmethod
    def read(cls, table: Mapping[str, Any]) -> Plan:
        """From a plan file's table.

        Settings left out stand at their defaults, but nothing is done that is not written: without augmentation no
        image is changed, and a plan without a network is refused. ``network`` may name a starting one.
        """
        known = {"format", "name", "seed", "augmentation", "network", "base", *SECTIONS, *CHOICES, *PAIRED}
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
        for key, rows in (CHOICES | PAIRED).items():
            if key in table:
                parts[key] = read_kind(key, rows, table[key])
        if "base" in table:
            parts["base"] = Base.read(_table("base", table["base"]))
        parts["augmentation"] = read_augmentation(table.get("augmentation", ()))
        network = table.get("network", ())
        if isinstance(network, str):
            parts["network"] = _starter(network, parts.get("preprocessing", Preprocessing()))
            drawing = DRAWING.get(network)
            brings = {"task": drawing.task(), **drawing.brings} if drawing is not None else {}
            return _without_idle(cls(**{"name": network, **brings, **parts}), table)
        if not network:
            remedy = f"Add [[network]] sections, or the line «network = 'three blocks'» at its top; {_OUTLINE}"
            raise BadValue("The plan has no network", "there is nothing in it that could be trained", remedy)
        parts["network"] = read_network(network)
        return _without_idle(cls(**parts), table)

    def write(self) -> dict[str, Any]:
        """The table that `read` makes this plan from."""
        table: dict[str, Any] = {"format": FORMAT, "name": self.name, "seed": self.seed}
        for key in SECTIONS:
            table[key] = getattr(self, key).write()
        for key in self.choices:
            table[key] = getattr(self, key).write_kind()
        if self.base is not None:
            table["base"] = self.base.write()
        table["augmentation"] = [step.write_kind() for step in self.augmentation]
        table["network"] = self.network.write()
        return table

    def is_like(self, other: Plan) -> bool:
        """Whether they differ in seed and name at most."""
        return replace(self, seed=other.seed, name=other.name) == other

    def changed(self, settings: Mapping[str, Any]) -> Plan:
        """A copy with dotted settings changed: ``{"training.epochs": 5, "network": "two blocks"}``.

        ``optimiser``, ``schedule``, ``loss``, ``initialisation`` and ``averaging`` take a kind, before any of their
        settings; ``network`` takes the name of a starting network, which is made for the input size (the plan takes
        the name too, unless it has one of its own), ``augmentation`` the word ``"none"`` or ``"default"``. A group
        pattern or a group column alone is meant to be followed: the split keeps images together by it. A network that
        draws brings its task with it, a task a network, and a network as it starts is made anew for another input size.
        """
        plan = self._for_task(settings)._for_labels(settings)
        if settings.get("split.group_pattern") and "split.keep_together" not in settings:
            settings = {**settings, "split.keep_together": "name pattern"}
        if settings.get("split.group_column") and "split.keep_together" not in settings:
            settings = {**settings, "split.keep_together": "column"}
        base = self.base.write() if self.base else {}
        parts: dict[str, dict[str, Any]] = {}
        for key, value in sorted(settings.items(), key=lambda item: "." in item[0] and not item[0].endswith(".kind")):
            section, _, name = key.partition(".")
            if section in SECTIONS and name:
                known = SECTIONS[section].specs()
                if name not in known:
                    raise unknown_word("plan", key, frozenset(f"{section}.{each}" for each in known))
                parts.setdefault(section, {})[name] = value
            elif section in CHOICES or section in PAIRED:
                chosen: Any = _chosen(section, name, value, getattr(plan, section))
                plan = replace(plan, **{section: chosen})
            elif key in ("name", "seed"):
                plan = replace(plan, **{key: value})
            elif key == "network":
                if isinstance(value, str) and value in DRAWING:
                    continue  # it came with its task
                renamed = value if plan.name in STARTERS or plan.name in DRAWING else plan.name
                plan = replace(plan, network=_starter(value, _prepared(settings, plan)), name=renamed)
            elif key == "augmentation":
                if value not in ("none", "default"):
                    raise unknown_word("plan.augmentation", str(value)[:60], frozenset({"none", "default"}))
                plan = replace(plan, augmentation=DEFAULT_AUGMENTATION if value == "default" else ())
            elif section == "base" and name:
                base[name] = value
            else:
                sections = {f"{s}.{n}" for s, kind in SECTIONS.items() for n in kind.specs()}
                rows = plan.choices
                sections |= {f"{s}.{n}" for s, kinds in rows.items() for kind in kinds.values() for n in kind.specs()}
                raise unknown_word("plan", key, sections | {*_WHOLE, *rows})
        plan = replace(plan, **{section: getattr(plan, section).with_(**own) for section, own in parts.items()})
        return _without_idle(replace(plan, base=Base.read(base)) if base else plan, settings, plan.task.idle)

    def _for_labels(self, settings: Mapping[str, Any]) -> Plan:
        """With the task that settings name and the loss it needs, where it is for several labels, or is no more."""
        kind = settings.get("task", settings.get("task.kind"))
        if not isinstance(kind, str) or kind not in TASKS or kind == self.task.kind:
            return self
        task = TASKS[kind]()
        if task.several == self.task.several:
            return self
        loss = SigmoidCrossEntropy if task.several else CrossEntropy
        best = "mean_average_precision" if task.several else "accuracy"
        return replace(
            self,
            task=task,
            loss=loss(class_weights=self.loss.class_weights),
            stopping=task.fitted(self.stopping),
            training=self.training.with_(best_by=settings.get("training.best_by", best), sampling=UNIFORM),
        )

    def _for_task(self, settings: Mapping[str, Any]) -> Plan:
        """With the task, network and preprocessing that settings name, where a network that draws is among them."""
        name, task = settings.get("network"), settings.get("task", settings.get("task.kind"))
        if not isinstance(name, str | None) or not isinstance(task, str | None):
            return self  # refused where it is read
        preprocessing = _prepared(settings, self)
        starts = self.name in DRAWING and self.network == _starter(self.name, self.preprocessing)
        if name is None and task is None:
            name = self.name if starts and preprocessing != self.preprocessing else None
        elif name is None and task in TASKS and task != self.task.kind:
            name = next((word for word, each in DRAWING.items() if each.task.kind == task), "three blocks")
        if name not in DRAWING and not (self.task.draws and name in STARTERS):
            return self
        kind = DRAWING[name].task if name in DRAWING else Classify
        brings: dict[str, Any] = {}
        if kind.kind != self.task.kind:
            before = next((each.brings for each in DRAWING.values() if each.task.kind == self.task.kind), {})
            usual = {key: getattr(Plan(), key) for key, value in before.items() if getattr(self, key) == value}
            brings = usual | {"task": kind(), **(DRAWING[name].brings if name in DRAWING else {})}
            brings["stopping"] = kind().fitted(self.stopping)
        return replace(
            self,
            preprocessing=preprocessing,
            network=_starter(name, preprocessing),
            name=name if self.name in STARTERS or self.name in DRAWING else self.name,
            **brings,
        )


def _chosen(section: str, name: str, setting: Any, value: Kind) -> Kind:
    """A choice of another kind, or with one of its settings changed."""
    rows = (CHOICES | PAIRED)[section]
    if name in ("", "kind"):
        if not isinstance(setting, str) or setting not in rows:
            raise unknown_word(section, str(setting)[:60], frozenset(rows))
        return value if setting == value.kind else of_kind(rows, setting, value)
    if name not in value.specs():
        others = [kind for kind, kind_class in rows.items() if name in kind_class.specs()]
        if others:
            why = f"«{name}» is a setting of {', '.join(others)}, and the {section} is {value.kind}"
            raise BadUsage(f"{section}.{name} cannot be set", why, f"Set {section}={others[0]} with it")
        raise unknown_word("plan", f"{section}.{name}", frozenset(f"{section}.{known}" for known in value.specs()))
    return value.with_(**{name: setting})


def _starter(name: Any, preprocessing: Preprocessing) -> NetworkPlan:
    """A starting network for images prepared so."""
    if isinstance(name, str) and name in DRAWING:
        return DRAWING[name].network_for(preprocessing.input_size, preprocessing.channels)
    if not isinstance(name, str) or name not in STARTERS:
        raise unknown_word("plan.network", str(name)[:60], frozenset((*STARTERS, *DRAWING)))
    return STARTERS[name].network_for(preprocessing.input_size)


def read_augmentation(rows: Any) -> tuple[AugmentationStep, ...]:
    """Steps from the ``[[augmentation]]`` tables of a plan file; whatever else is given is a `BadValue`."""
    if isinstance(rows, str | Mapping) or not isinstance(rows, Sequence):
        raise BadValue(
            "plan.augmentation", f"a list of steps is needed, got {rows!r:.60}", "Write [[augmentation]] sections"
        )
    return tuple(read_kind("augmentation", STEPS, row) for row in rows)


def _without_idle(plan: Plan, settings: Iterable[str], further: Set[str] = frozenset()) -> Plan:
    """The plan; `BadUsage` if settings are of a discriminator that it has not, or further ones without a part in it."""
    sections = {key: key.partition(".")[0] for key in settings}
    if not plan.task.is_pair and (named := next((key for key in sections if sections[key] in PAIRED), "")):
        why = f"the task is to {plan.task.kind}, and only «generate» trains a discriminator"
        raise BadUsage(f"{named} cannot be set", why, "Start from a pair with it, as network=generator")
    if named := next((key for key in sections if further & {key, sections[key]}), ""):
        why = f"the task is to {plan.task.kind}: what is made small is {plan.task.loss_words(plan.loss)}, and "
        chosen = "the epoch where that is least is the best" if plan.best_by else "the last epoch is the model"
        raise BadUsage(f"{named} has no part in the plan", why + chosen, "Leave it out")
    return plan


def _prepared(settings: Mapping[str, Any], plan: Plan) -> Preprocessing:
    """The plan's preprocessing with what some settings ask of it."""
    names = {name: settings[key] for name in Preprocessing.specs() if (key := f"preprocessing.{name}") in settings}
    return plan.preprocessing.with_(**names)


def _table(key: str, value: Any) -> Mapping[str, Any]:
    if not isinstance(value, Mapping):
        raise BadValue(f"plan.{key}", f"a section is needed, got {value!r:.60}", f"Write it under [{key}]")
    return value
