"""Several labels, from the table to the answers: trained, told label by label, asked about one, corrected."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.cli.running import command

from attentive_lens.core.jobs import finish
from attentive_lens.core.numbering import RunNumber
from attentive_lens.desk.cards import read_card
from attentive_lens.desk.explaining.casebook import OpenCases
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.images.curating import Curating
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.requests.cases import TryCases
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.exporting import ExportModel
from attentive_lens.desk.requests.labels import ChooseThresholds, ScoreLabels
from attentive_lens.desk.requests.models import AnswerNew, Score
from attentive_lens.desk.requests.numbers import LayerNumbers
from attentive_lens.desk.requests.similarity import CompareLayers
from attentive_lens.desk.requests.subjects import FileImage, RunImage
from attentive_lens.desk.results.labels import label_answers
from attentive_lens.desk.results.models import loss_and_gradient, model_of, model_of_run
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.cautions import (
    caution_of_groups,
    caution_of_sets,
    cautions_of_several,
    changed_since,
    small_classes,
)
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.preparing import prepare
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.losses import Loss, sigmoid_cross_entropy
from attentive_lens.engine.ranks import ALONE
from attentive_lens.engine.special import expit
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, BadUsage, BadValue, LensError, NotHere
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.labels import labels_in
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.intervals import interval_by_group
from attentive_lens.scoring.labels import label_scores
from attentive_lens.scoring.thresholds import ThresholdRule
from attentive_lens.training.labeller import Labeller
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.corrections import NOTHING
from attentive_lens.workspace.thresholds import Threshold, keep_thresholds, thresholds_of

LABELS = ("furrowed", "netted", "smooth", "spiny", "triangular", "winged")


def test_the_card_of_the_first_page_counts_labels(fields: Workspace, station: Workspace) -> None:
    assert read_card(fields.folder).labels == len(LABELS) < read_card(fields.folder).classes
    assert read_card(station.folder).labels == 0 and read_card(station.folder).classes == 6


def test_sets_taken_for_classes_are_told(fields: Workspace) -> None:
    own, classes = usual_plan(fields), usual_plan(fields).changed({"task": "classify"})
    assert not caution_of_sets(own.task, several=True)
    assert not caution_of_sets(classes.task, several=False)
    assert not caution_of_sets(Plan().changed({"network": "variational"}).task, several=True), "it has no classes"
    assert "every set of them is a class" in caution_of_sets(classes.task, several=True)


def ask(request):  # type: ignore[no-untyped-def]  # whatever the request gives
    return finish(carry_out(request))


def place(workspace: Workspace) -> str:
    return str(workspace.folder)


def test_a_workspace_of_several_labels_begins_with_a_plan_for_them(fields: Workspace) -> None:
    images = collection(fields, Plan())
    assert images.several and images.kinds == (*LABELS, "no label")
    assert sum(images.kind_totals) > len(images.rows), "an image may have several"
    for kind, name in enumerate(images.kinds[:-1]):
        own = [name in labels_in(images.classes[row.label]) for row in images.rows]
        assert images.of_kind(kind).tolist() == own
        in_sets = sum(images.count_of_kind(on, kind) for on in ("training", "validation", "test"))
        assert in_sets == sum(own) == images.kind_totals[kind]
    plan = usual_plan(fields)
    assert plan.task.several and images.learned(plan.task) == list(LABELS)
    assert images.learned(Plan().task) == images.taught, "the same images can be learned as classes"
    assert not any(";" in words for words in small_classes(images))


def test_the_run_learned_every_label_by_itself(fields: Workspace) -> None:
    run = fields.run(1)
    model = read_model(run.model)
    assert model.classes == LABELS == run.classes() and model.output == "sigmoid"
    assert model.thresholds == (0.5,) * 6, "chosen since: beside the run"
    best = RunReader(run).view().best
    assert best is not None and best.validation is not None
    assert set(best.validation.more) == {"label_accuracy"}
    assert best.validation.main == best.validation.mean_average_precision
    assert "exact match" in best.validation.in_words
    scores = ask(ScoreLabels(place(fields), 1))
    assert scores.mean_average_precision == pytest.approx(best.validation.main, abs=1e-5)
    assert scores.loss == pytest.approx(best.validation.loss, abs=1e-4)
    said, there = scores.probabilities > 0.5, scores.there > 0
    assert best.validation.more["label_accuracy"] == pytest.approx((said == there).mean(), abs=1e-5)
    assert best.validation.accuracy == pytest.approx((said == there).all(axis=1).mean(), abs=1e-5)
    both, any_of_both = (said & there).sum(axis=0), said.sum(axis=0) + there.sum(axis=0)
    known = any_of_both > 0
    assert best.validation.macro_f1 == pytest.approx((2 * both[known] / any_of_both[known]).mean(), abs=1e-5)
    kinds = {finding.kind for finding in advice_of(fields, run, RunReader(run).view())}
    assert not kinds & {"imbalance", "validation noise", "under-fitting", "class ignored"}


def test_scores_are_those_of_the_network_beside_the_labels_of_the_table(fields: Workspace) -> None:
    scores = ask(ScoreLabels(place(fields), 1, "test"))
    model, images = model_of_run(fields.run(1)), collection(fields, Plan())
    network = Predictor.of(model)
    for row, number in enumerate(scores.numbers[:12].tolist()):
        own = images.rows[number - 1]
        pixels = model.preprocessor.opened(fields.path_of(own))[None]
        raw = network.raw_scores(network.prepare(pixels))
        assert scores.probabilities[row] == pytest.approx(expit(raw)[0], abs=1e-6)
        names = labels_in(images.classes[own.label])
        assert scores.names(scores.there[row]) == ("; ".join(names) or "no label")
    thresholds = thresholds_of(fields.run(1))
    assert [each.threshold for each in scores.by_label] == [thresholds[name].value for name in LABELS]
    assert ask(ScoreLabels(place(fields), 1, "test")).probabilities.tobytes() == scores.probabilities.tobytes()


@pytest.mark.parametrize("label", ["netted", "winged"])
def test_a_run_asked_about_one_label_is_one_of_two_classes(fields: Workspace, label: str) -> None:
    whole = ask(ScoreLabels(place(fields), 1))
    scores = ask(Score(place(fields), RunNumber(1, label)))
    k = LABELS.index(label)
    assert scores.classes == (f"not {label}", label)
    assert scores.true.tolist() == whole.there[:, k].tolist()
    assert scores.predicted.tolist() == whole.said[:, k].tolist()
    assert scores.probabilities[:, 1] == pytest.approx(whole.probabilities[:, k], abs=1e-6)
    missed, false = whole.by_label[k].missed, whole.by_label[k].false
    assert {answer.image for answer in scores.wrong} == {*missed, *false}
    raw = np.log(whole.probabilities[:, k] / (1 - whole.probabilities[:, k]))[:, None].astype(np.float64)
    by_hand = sigmoid_cross_entropy(raw, whole.there[:, k : k + 1].astype(float))[0]
    assert scores.losses == pytest.approx(by_hand, abs=1e-3)
    assert (
        changed_since(fields.run(RunNumber(1, label)), collection(fields, Plan(), fields.run(RunNumber(1, label))))
        == []
    )
    own, others = fields.run(RunNumber(1, label)), (fields.run(1), fields.run(RunNumber(1, "spiny")))
    assert own.scores_file("test") not in [other.scores_file("test") for other in others]


def test_who_does_not_name_a_label_is_told_which_there_are(fields: Workspace, station: Workspace) -> None:
    requests = [Score(place(fields), 1), Causes(place(fields), 1), Explain(RunImage(place(fields), 1, 1))]
    for request in requests:
        with pytest.raises(BadUsage, match=r"several labels: .*furrowed, netted.*«1:furrowed»"):
            ask(request)
    with pytest.raises(NotHere, match="no label «plain»"):
        ask(Score(place(fields), RunNumber(1, "plain")))
    with pytest.raises(NotHere, match="one class an image"):
        ask(Score(place(station), RunNumber(1, "spiny")))
    with pytest.raises(BadUsage, match="one class an image"):
        ask(ScoreLabels(place(station), 1))


def test_an_explanation_tells_of_all_labels_and_maps_the_one_asked_about(fields: Workspace) -> None:
    scores = ask(ScoreLabels(place(fields), 1))
    number = int(scores.numbers[0])
    explained = ask(Explain(RunImage(place(fields), RunNumber(1, "smooth"), number)))
    assert {explained.predicted, explained.true} <= {"smooth", "not smooth"}
    assert [each.name for each in explained.labels] == list(LABELS)
    for each, there, probability in zip(explained.labels, scores.there[0], scores.probabilities[0], strict=True):
        assert each.there == bool(there) and each.probability == pytest.approx(float(probability), abs=1e-5)
        said = each.probability > each.threshold
        assert each.mistake == ("" if said == each.there else "false" if said else "missed")
    other = ask(Explain(RunImage(place(fields), RunNumber(1, "spiny"), number)))
    assert not np.array_equal(explained.maps[0].values, other.maps[0].values)
    assert ask(LayerNumbers(place(fields), RunNumber(1, "spiny"), "output", image=number)).loss is not None
    assert ask(CompareLayers(place(fields), 1)).images, "no label is needed where none is asked about"


def test_thresholds_are_chosen_and_hold_everywhere_at_once(fields: Workspace) -> None:
    before = ask(ScoreLabels(place(fields), 1))
    listed = ask(ChooseThresholds(place(fields), 1))
    assert [each.threshold for each in listed.labels] == [each.threshold for each in before.by_label], "nothing changed"
    result = ask(ChooseThresholds(place(fields), 1, "fixed", value=0.9, labels=("spiny",)))
    values = {each.label: each.threshold for each in result.labels}
    assert values["spiny"] == 0.9
    assert all(values[each.name] == each.threshold for each in before.by_label if each.name != "spiny")
    after = ask(ScoreLabels(place(fields), 1))
    assert after.said[:, 3].tolist() == (after.probabilities[:, 3] > 0.9).tolist()
    one = ask(Score(place(fields), RunNumber(1, "spiny")))
    assert one.predicted.tolist() == after.said[:, 3].tolist()
    assert model_of(fields.run(1).model).thresholds[3] == 0.9, "the file of a run is answered with them, too"
    with pytest.raises(BadUsage, match="label"):
        ask(ChooseThresholds(place(fields), 1, "F1", labels=("plain",)))
    for by in ("cost", "precision"):
        assert "On validation images" in ask(ChooseThresholds(place(fields), 1, by)).sentence
    fields.run(1).thresholds.write_text("{")
    with pytest.raises(BadFile, match=r"thresholds\.json is damaged"):
        ask(ScoreLabels(place(fields), 1))


def test_what_was_worked_out_about_a_label_is_void_when_its_threshold_is_another(fields: Workspace) -> None:
    run = fields.run(RunNumber(1, "smooth"))
    first = collection(fields, run.plan(), run).fingerprint
    assert first != collection(fields, run.plan(), fields.run(RunNumber(1, "spiny"))).fingerprint
    known = thresholds_of(run.whole)
    keep_thresholds(run, {**known, "smooth": Threshold(0.123, "somebody")})
    assert collection(fields, run.plan(), run).fingerprint != first


def test_answers_to_new_files_name_every_label_that_is_said(fields: Workspace, tmp_path: Path) -> None:
    scores = ask(ScoreLabels(place(fields), 1, "test"))
    images = collection(fields, Plan()).rows
    files = tuple(str(fields.path_of(images[number - 1])) for number in scores.numbers[:8].tolist())
    answered = ask(AnswerNew(place(fields), 1, files))
    for row, answer in enumerate(answered.answers):
        names = scores.names(scores.said[row])
        assert answer.predicted == names and list(answer.labels) == list(labels_in(names))
        own = np.where(scores.said[row] > 0, scores.probabilities[row], 1 - scores.probabilities[row])
        assert answer.probability == pytest.approx(float(own.min()), abs=1e-5)
    for ending in (".alens", ".onnx"):
        file = tmp_path / f"model{ending}"
        exported = ask(ExportModel(place(fields), "1", str(file)))
        assert exported.same == exported.images
        model = read_model(file)
        assert model.thresholds == pytest.approx(tuple(each.threshold for each in scores.by_label))
        with pytest.raises(BadUsage, match="several labels"):
            ask(Explain(FileImage(files[0], str(file))))
        about = ask(Explain(FileImage(files[0], str(file), label="winged")))
        assert about.probabilities["winged"] == pytest.approx(float(scores.probabilities[0, 5]), abs=1e-5)
        assert all(each.there is None for each in about.labels)


def test_a_case_is_about_a_label_and_tried_with_it(fields: Workspace) -> None:
    book = OpenCases(fields)
    scores = ask(Score(place(fields), RunNumber(1, "smooth")))
    answer = scores.answers[0]
    named = scores.classes[answer.predicted], scores.classes[answer.true]
    first = book.open_case(answer.image, RunNumber(1, "smooth"), *named)
    other = book.open_case(answer.image, RunNumber(1, "spiny"), "spiny", "not spiny")
    assert first is not None and other is not None and first.number != other.number
    assert OpenCases(fields).book.of_image(answer.image, "smooth") == first
    tried = {each.case.number: each for each in ask(TryCases(place(fields))).cases}
    assert tried[first.number].label == named[1]
    assert [each.predicted for each in tried[first.number].answers] == [named[0]]
    assert {each.predicted for each in tried[other.number].answers} <= {"spiny", "not spiny"}


def test_balanced_weights_are_those_of_the_training_images(fields: Workspace) -> None:
    plan = fields.run(1).plan().changed({"loss.class_weights": "balanced"})
    run = fields.claim_run(plan)
    setup = finish(prepare(fields, run, None))
    with ThreadPool(1) as thread_pool:
        learner = setup.learner(run, thread_pool, ALONE)
    images = collection(fields, plan)
    count = images.count("training")
    having = [sum(images.count("training", k) for k, name in enumerate(images.classes) if label in labels_in(name))
              for label in LABELS]  # fmt: skip
    assert isinstance(learner, Labeller) and learner.loss.class_weights is not None
    assert learner.loss.class_weights == pytest.approx([(count - n) / n for n in having])


def test_the_loss_of_one_label_is_its_part_and_changes_with_its_score_alone(fields: Workspace) -> None:
    model = model_of_run(fields.run(RunNumber(1, "smooth")))
    random = np.random.default_rng(3)
    raw, labels = random.normal(0, 2, (5, 6)), random.integers(0, 2, 5)
    loss = Loss("sigmoid cross-entropy")
    losses, gradient = loss_and_gradient(loss, model, raw, labels)
    assert losses == pytest.approx(-np.log(np.where(labels, expit(raw[:, 2]), 1 - expit(raw[:, 2]))))
    for i in range(5):
        for k in range(6):
            ends = []
            for h in (1e-6, -1e-6):
                moved = raw.copy()
                moved[i, k] += h
                ends.append(loss_and_gradient(loss, model, moved, labels)[0][i])
            assert (ends[0] - ends[1]) / 2e-6 == pytest.approx(gradient[i, k], abs=1e-6)


def test_shuffled_labels_teach_nothing(fields: Workspace) -> None:
    """The opposite of what is measured: labels that say nothing of the images are ranked as by chance."""
    images, random = collection(fields, Plan()), np.random.default_rng(5)
    labels = random.permutation([row.label for row in images.rows])
    changes = {row.number: replace(NOTHING, label=int(label)) for row, label in zip(images.rows, labels, strict=True)}
    Curating(fields).apply("shuffled", changes)
    run = fields.claim_run(fields.run(1).plan().changed({"training.epochs": 4}))
    finish(execute(fields, run, lambda: False))
    scores = ask(ScoreLabels(place(fields), run.number, "test"))
    assert scores.chance is not None and scores.mean_average_precision is not None
    assert scores.mean_average_precision < scores.chance + 0.15
    assert changed_since(fields.run(1), collection(fields, Plan())), "the first run learned from other labels"


def test_a_run_goes_on_to_the_same_bits(fields: Workspace, tmp_path: Path) -> None:
    plan = fields.run(1).plan().changed({"loss.class_weights": "balanced", "loss.label_smoothing": 0.1})
    whole = fields.claim_run(plan)
    finish(execute(fields, whole, lambda: False))
    other = Workspace.open(Path(shutil.copytree(fields.folder, tmp_path / "other")))
    broken = other.claim_run(plan)
    steps = iter([False] * 9 + [True] * 99)
    finish(execute(other, broken, lambda: next(steps)))
    assert RunReader(broken).view().state == "stopped"
    from attentive_lens.desk.training.executing import Launch

    finish(execute(other, broken, lambda: False, Launch(resume=True)))
    one, two = read_model(whole.model), read_model(broken.model)
    for node, arrays in one.weights.items():
        for name, array in arrays.items():
            assert np.array_equal(array, two.weights[node][name]), node


def test_what_cannot_be_learned_is_refused_before(fields: Workspace, station: Workspace) -> None:
    with pytest.raises(BadValue, match=r"no labels|only the label"):
        images = collection(fields, Plan())
        numbers = {row.number: replace(NOTHING, label=images.classes.index("no label")) for row in images.rows}
        Curating(fields).apply("no labels", numbers)
        finish(execute(fields, fields.claim_run(usual_plan(fields)), lambda: False))
    plan = small(station)
    finish(execute(station, station.claim_run(plan), lambda: False))
    assert ask(ScoreLabels(place(station), 2)).labels == tuple(Library.read(station).classes), "classes as labels"


def small(station: Workspace) -> Plan:
    return station.run(1).plan().changed({"task": "multi-label", "training.epochs": 1})


def test_a_damaged_file_of_a_model_is_refused(fields: Workspace, tmp_path: Path) -> None:
    model = read_model(fields.run(1).model)
    for thresholds, output, why in (
        ((0.5,) * 5, "sigmoid", "5 thresholds"),
        ((0.5,) * 5 + (1.5,), "sigmoid", "5 thresholds"),
        ((0.5,) * 6, "softmax", "sigmoid"),
    ):
        file = tmp_path / "m.alens"
        replace(model, thresholds=thresholds, output=output).write(file)
        with pytest.raises(LensError, match=why):
            read_model(file)
    with pytest.raises(BadUsage, match="one class"):
        replace(model, thresholds=()).about("spiny")


def test_every_rule_of_thresholds_can_be_asked_for() -> None:
    for by in ("F1", "cost", "precision", "fixed"):
        assert ChooseThresholds("", 1, by).rule == ThresholdRule(by)
    assert isinstance(Run(Path("0003"), "a").number, RunNumber) and Run(Path("0003")).number == 3


def test_scores_of_labels_say_how_much_less_groups_stand_for_and_what_the_test_set_judged(fields: Workspace) -> None:
    scores = finish(carry_out(ScoreLabels(str(fields.folder), 1, "validation")))
    right = (scores.said == scores.there).all(axis=1)
    assert scores.exact_match.value == pytest.approx(right.mean())
    order = np.argsort(right, kind="stable")
    quarters = np.empty(len(order), np.int64)
    quarters[order] = np.arange(len(order)) * 4 // len(order)
    answers = finish(label_answers(fields, fields.run(1), "validation"))
    values = tuple(each.threshold for each in scores.by_label)
    together = label_scores(1, answers, values, ("F1",) * len(values), quarters)
    words = caution_of_groups(together)
    low, high = interval_by_group(right, quarters)
    assert f"{scores.images} validation images are of 4 groups" in words
    assert f"exact match lies between {low:.1%} and {high:.1%}" in words
    assert high - low > scores.exact_match.high - scores.exact_match.low, "those of a group are alike here"
    assert caution_of_groups(scores) == ""
    for one, alone in zip(together.by_label, scores.by_label, strict=True):
        for name in ("precision", "recall"):
            share, plain = getattr(one, name), getattr(alone, name)
            assert (share.count, share.of) == (plain.count, plain.of)
            assert share.of < 6 or share.high - share.low > plain.high - plain.low
    assert cautions_of_several(fields, fields.run(1), scores) == []
    pattern = {"split.group_pattern": r"field-\d{4}", "training.epochs": 1}
    for _ in range(2):
        plan = fields.run(1).plan().changed(pattern)
        run = fields.claim_run(plan)
        finish(execute(fields, run, lambda: False))
        said = command("score", fields.folder, run.number, "--on", "test")
        assert "test images are of" in said, "a group for every ten of the numbers"
        assert "exact match lies between" in said
    assert "The test set has judged" in said
