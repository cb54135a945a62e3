"""Fit to budget: the cuts that meet every limit of a target at the least visible loss.

What a choice costs is first known from tiles; those that are chosen are then really made, and what came out takes the place of what
was expected, until the choice stands.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from enum import Enum
from itertools import chain, count
from math import inf
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.errors import OakTrimError
from oaktrim.core.fields import MAX_PIXELS
from oaktrim.core.formats.catalogue import ORDER
from oaktrim.core.job.document import Job
from oaktrim.core.plan.budget import NEVER, Choices, Solution, shortfalls, solve
from oaktrim.core.plan.cuts import Cap, Change, SetEffort, SetFormat, SetLoss
from oaktrim.core.plan.packing import CompressionRatios, Measured, measure_ratios
from oaktrim.core.plan.resolve import Plan, Recipe, footprint_as, missing_of, resolve
from oaktrim.core.progress import Progress, Taken, Task, finish, map_unordered
from oaktrim.core.proof.otherfit import made_sounds, proposed, with_other_fit, with_others
from oaktrim.core.proof.problem import Bounds, Option, OtherGroup, OtherOption, Problem, loss_key, pose
from oaktrim.core.proof.tiles import Clock, measure, sketch
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.ship.store import Ahead, MadeStore
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.targets.footprint import FORMAT_INDEX

# From so many choices on, a first answer is given from samples, after so many seconds at most; then so many batches are
# measured, each of at least so many textures.
_MANY, _FIRST, _BATCHES, _LEAST_BATCH = 2000, 40.0, 12, 64
# After so many rounds, textures of which some choice has been made decide among those, where the loss grows by no more than this.
_ROUNDS, _MORE = 8, 1.01
# What guesses may come out at where all goes well: our own choice, which finds the best of four boards of the demonstration.
_SIZES_OFF, _LOSSES_OFF = 0.8, 0.6
# So often what the bound leans on is made as well: a choice that a guess has made look dear may be worth its bytes.
_LEANINGS = 2


class Basis(Enum):
    """What a proposal is known from."""

    SAMPLES = "guessed from samples of each texture"
    TILES = "measured on tiles of each texture"
    MADE = "really made"


@dataclass(frozen=True, eq=False)
class Fit:
    """What is proposed.

    Parameters
    ----------
    solution : None where no choices meet the limits
    missing : by how many bytes a line then stays over its limit
    """

    problem: Problem
    solution: Solution | None
    missing: dict[str, int]

    @property
    def basis(self) -> Basis:
        """What the losses of what is proposed come from: the least that is true of all of it."""
        if self.solution is None:
            return Basis.MADE
        picks = self.solution.picks
        if self.problem.exact[picks].all() or self.unmade == 0:
            return Basis.MADE
        return Basis.TILES if self.problem.measured.all() else Basis.SAMPLES

    @property
    def unmade(self) -> int:
        """How much of what is proposed instead of what ships now was not really made yet."""
        if self.solution is None:
            return 0
        picks = self.solution.picks
        changed = picks != self.problem.choices.first[:-1]
        return int((changed & ~self.problem.exact[picks]).sum())

    def others(self) -> list[tuple[OtherGroup, OtherOption]]:
        """Return the sounds and clips for which something else is proposed than what ships now."""
        return [] if self.solution is None else proposed(self.problem, self.solution.picks)

    def changed(self) -> list[int]:
        """Return the groups for which something else is proposed than what ships now, the most visible loss first."""
        if self.solution is None:
            return []
        problem, picks = self.problem, self.solution.picks
        groups = np.flatnonzero(picks != problem.choices.first[:-1])
        groups = groups[groups < len(problem.groups)]
        return sorted((int(g) for g in groups), key=lambda g: (-problem.jnd(int(picks[g])), g))


def fit(problem: Problem) -> Fit:
    """Return the choices that meet the limits at the least loss; every choice must have been measured."""
    missing = shortfalls(problem.choices, problem.room)
    if missing.any():
        short = {line: int(by) for line, by in zip(problem.lines, missing, strict=True) if by}
        return Fit(problem, None, short)
    return Fit(problem, solve(problem.choices, problem.room), {})


def confirm(
    found: Fit,
    ratios: CompressionRatios,
    cache: SurveyCache,
    max_pixels: int = MAX_PIXELS,
    clock: Clock = Clock(),
    ahead: Ahead | None = None,
) -> Task[Fit]:
    """Make what is proposed, put what came out in the place of what was expected, and decide again, until it stands.

    Each step says what was measured. Where the clock runs out, what was made until then has its say.
    """
    known = cache.losses()
    leaning = 0
    guessed = found.problem.choices
    for turn in count():
        if found.solution is None:
            return found
        problem = found.problem
        weighed = "package" in problem.lines
        kept = set() if weighed else set(problem.choices.first.tolist())
        due = [int(c) for c in found.solution.picks if not problem.exact[c] and int(c) not in kept]
        if not due and leaning < _LEANINGS:
            due = [int(c) for c in _leaned_on(found) if not problem.exact[c] and int(c) not in kept]
            leaning += 1
        if not due:
            return found
        loss, exact, cost = problem.choices.loss.copy(), problem.exact.copy(), problem.choices.cost.copy()
        what = "making what is proposed" + (f", round {turn + 1}" if turn else "")
        yield Progress(0, len(due), what)

        def make(
            choice: int, problem: Problem = problem, ratios: CompressionRatios = ratios
        ) -> tuple[float | None, int | None]:
            return finish(_made(problem, choice, known, ratios, cache, max_pixels))

        # One beside the other: little of what makes and judges a texture is spread over threads by itself.
        fresh = [choice for choice in due if None in _known(problem, choice, known, ratios)]
        coming = chain(
            (choice for choice in due if choice not in fresh), _coming(problem, fresh, ahead, MadeStore.beside(cache))
        )
        choices = Taken(clock.until(coming))
        for done, (position, (jnd, size)) in enumerate(map_unordered(make, choices, ahead=1), 1):
            choice = choices.taken[position]
            group = problem.groups[int(problem.choices.texture[choice])]
            measured = Measured()
            if jnd is not None and size is not None:
                measured = _keep_made(problem, choice, jnd, size, known, ratios, cache)
                ratios = ratios.merged(measured)
            yield Progress(done, len(due), what, measured)
            exact[choice] = True
            # What cannot be made cannot be chosen.
            loss[choice] = group.weight * jnd**2 if jnd is not None else NEVER
            if size is not None and weighed:
                cost[problem.lines.index("package"), choice] = size * len(group.rows)
        _learn(guessed.loss, loss, exact, problem.choices)
        if weighed:
            line = problem.lines.index("package")
            _learn(guessed.cost[line], cost[line], exact, problem.choices)
        found = fit(replace(problem, choices=Choices(problem.choices.first, loss, cost), exact=exact))
        if turn >= _ROUNDS:
            found = _among_made(found)
        if clock.is_over:
            return found
        yield Progress(0, 0, "deciding", found)
    raise AssertionError("every round makes a choice that was not made, and choices end")


def _coming(problem: Problem, due: Sequence[int], ahead: Ahead | None, store: MadeStore) -> Iterator[int]:
    """Yield choices in the order in which they can be judged: as they stand, or as others have made them."""
    if ahead is None:
        yield from due
        return
    rows = [problem.groups[int(problem.choices.texture[choice])].rows[0] for choice in due]
    wanted = [(row, recipe_of(problem, choice).settings) for row, choice in zip(rows, due, strict=True)]
    with closing(ahead(problem.plan.inventory, wanted, store)) as places:
        for place in places:
            yield due[place]


def _learn(guessed: NDArray[Any], now: NDArray[Any], exact: NDArray[np.bool_], choices: Choices) -> None:
    """Bring what is still guessed of a texture to the measure of what was made of it, against the guesses of that.

    Parameters
    ----------
    guessed : a loss or bytes of each choice as guessed at first, (C,)
    now : the same with what was made in its place, (C,); changed in place
    exact : which were made, (C,)
    """
    usable = exact & (guessed > 0) & (now > 0) & (now < NEVER)
    parts = np.zeros(len(now))
    parts[usable] = np.log(now[usable] / guessed[usable])
    sums, counts = (np.add.reduceat(v, choices.first[:-1]) for v in (parts, usable.astype(np.int64)))
    # One example moves the rest by half of its own ratio's logarithm: the next may be otherwise.
    factor = np.exp(sums / (counts + 1))[choices.texture]
    open_ = ~exact & (now < NEVER)
    now[open_] = (guessed * factor)[open_]


def _leaned_on(found: Fit) -> NDArray[np.int64]:
    """Return what would be best for each texture if all that was not made came out as well as guesses are off."""
    assert found.solution is not None
    choices, exact = found.problem.choices, found.problem.exact
    cost = choices.cost * np.where(exact, 1, _SIZES_OFF)
    return choices.least(choices.loss * np.where(exact, 1, _LOSSES_OFF) + found.solution.prices @ cost)


def _among_made(found: Fit) -> Fit:
    """Return the decision among choices that have been made, where that is as good; else the same."""
    choices, exact = found.problem.choices, found.problem.exact
    made = np.logical_or.reduceat(exact, choices.first[:-1])[choices.texture]
    settled = fit(found.problem.with_losses(np.where(made & ~exact, NEVER, choices.loss)))
    solution, wider = settled.solution, found.solution
    if solution is None or wider is None or solution.loss > wider.loss * _MORE + 1e-9:
        return found
    return replace(found, solution=replace(solution, bound=wider.bound))


def _known(
    problem: Problem, choice: int, known: Mapping[str, float], ratios: CompressionRatios
) -> tuple[float | None, int | None]:
    """Return the JND and the packed bytes of a choice where they are known."""
    row = problem.groups[int(problem.choices.texture[choice])].rows[0]
    return known.get(loss_key(problem, choice)), ratios.made_size(row, problem.keys[choice])


def _made(
    problem: Problem,
    choice: int,
    known: dict[str, float],
    ratios: CompressionRatios,
    cache: SurveyCache,
    max_pixels: int,
) -> Task[tuple[float | None, int | None]]:
    """Return the JND and the packed bytes of a choice really made; nothing where it cannot be."""
    jnd, size = _known(problem, choice, known, ratios)
    if jnd is not None and size is not None:
        return jnd, size
    row = problem.groups[int(problem.choices.texture[choice])].rows[0]
    try:
        reference = reference_for(problem.plan, row, True, max_pixels)
        recipe, store = recipe_of(problem, choice), MadeStore.beside(cache)
        trial = yield from try_recipe(problem.plan, row, recipe, reference, max_pixels, store)
    except (OakTrimError, MemoryError):
        return None, None
    return trial.quality.jnd, trial.package


def _keep_made(
    problem: Problem,
    choice: int,
    jnd: float,
    size: int,
    known: dict[str, float],
    ratios: CompressionRatios,
    cache: SurveyCache,
) -> Measured:
    """Keep what came of a choice really made, here and for later, unless it was known; return its size."""
    name, key = loss_key(problem, choice), problem.keys[choice]
    if None not in _known(problem, choice, known, ratios):
        return Measured()
    known[name] = jnd
    cache.keep_losses({name: jnd})
    cache.keep_measured({key: size})
    return Measured({key: size})


def recipe_of(problem: Problem, choice: int) -> Recipe:
    """Return the recipe of a choice for the first of its textures."""
    row, option = problem.groups[int(problem.choices.texture[choice])].rows[0], problem.option(choice)
    plan = problem.plan
    footprint = footprint_as(plan, np.array([row]), np.array([option.side]), np.array([FORMAT_INDEX[option.format]]))
    size = {name: int(getattr(footprint, name)[0]) for name in ("width", "height", "levels")}
    chosen = {"format": option.format, "effort": option.effort, "loss": option.loss}
    recipe = plan.recipe(row)
    return replace(recipe, settings=msgspec.structs.replace(recipe.settings, **size, **chosen))


def with_fit(job: Job, found: Fit, groups: Sequence[int]) -> Job:
    """Return the job with what is proposed for some groups, and for sounds and clips, as cuts on the plan's target."""
    assert found.solution is not None
    problem, target = found.problem, found.problem.plan.target.id
    textures = problem.plan.inventory.textures
    by_change: dict[Change, list[str]] = {}
    for group in groups:
        option = problem.option(int(found.solution.picks[group]))
        for row in problem.groups[group].rows:
            for change in _changes(problem.plan, row, option):
                by_change.setdefault(change, []).append(textures[row].path)
    for change in sorted(by_change, key=lambda change: (_KINDS.index(type(change)), change.label)):
        job = job.with_changes(target, sorted(by_change[change]), change)
    return with_other_fit(job, problem, found.solution.picks)


_KINDS = (Cap, SetFormat, SetEffort, SetLoss)


def _changes(plan: Plan, row: int, option: Option) -> list[Change]:
    """Return what makes a texture ship as an option says."""
    changes: list[Change] = [Cap(option.side)] if option.side else []
    if option.format != ORDER[plan.formats[row]]:
        changes.append(SetFormat(option.format))
    now = plan.encode_settings(row)
    if option.effort is not now.effort:
        changes.append(SetEffort(option.effort))
    if option.loss != now.loss:
        changes.append(SetLoss(option.loss))
    return changes


def why(found: Fit, group: int) -> str:
    """Say why a group's choice was taken, and not the next better one: what that would cost, and what it is worth elsewhere."""
    assert found.solution is not None
    problem, pick = found.problem, int(found.solution.picks[group])
    first, stop = problem.choices.first[group : group + 2]
    better = first + np.flatnonzero(problem.choices.loss[first:stop] < problem.choices.loss[pick] - 1e-12)
    if not len(better):
        return "nothing that it can ship as is nearer to the source"
    prices = found.solution.prices
    if not prices.any():
        return "the limits leave room for it"
    nearest = int(better[np.argmin(problem.choices.loss[better] + prices @ problem.choices.cost[:, better])])
    option = problem.option(nearest)
    more = problem.choices.cost[:, nearest] - problem.choices.cost[:, pick]
    line = int(np.argmax(prices * np.abs(more)))
    spared = float(problem.choices.loss[pick] - problem.choices.loss[nearest])
    elsewhere = float(prices @ more)
    what = option.label + (f" at {option.side}" if option.side else "")
    times = elsewhere / spared if spared > 0 else 0.0
    size = f"{more[line] / 1024:+,.0f} KiB of {problem.lines[line]}"
    if times < 1.05:
        return f"{what} is nearer, at {size}, for which the limits leave no room"
    return f"{what} is nearer, at {size}: spent elsewhere they spare {times:.1f} times as much"


def propose(  # noqa: PLR0913, PLR0917 - all that a fit can be asked for
    plan: Plan,
    ratios: CompressionRatios,
    cache: SurveyCache,
    limits: dict[str, int],
    locked: NDArray[np.bool_],
    bounds: Bounds,
    max_pixels: int = MAX_PIXELS,
    effort: Effort | None = None,
    within: float | None = None,
    ahead: Ahead | None = None,
) -> Task[Fit]:
    """Pose, measure, decide and confirm; see `pose` for what is given.

    Steps bring what was measured of packages (`Measured`) and, where there is much to measure, better and better answers
    (`Fit`), the first within a minute.

    Parameters
    ----------
    within : seconds after which the best answer so far is returned; with none, it is measured to the end
    ahead : has textures made elsewhere and kept in the store
    """
    clock = Clock.within(within)
    missing = missing_of(plan, ratios)
    measured = yield from _in_time(measure_ratios(plan.inventory, missing, cache), clock.sooner(_FIRST / 3))
    ratios = ratios.merged(measured)
    if "package" in limits and not clock.is_over:
        # What may not be touched, and what ships beside it, is weighed before all else: its bytes are not to be had.
        packed = measure_packages(plan, ratios, cache, max_pixels, np.flatnonzero(locked))
        ratios = ratios.merged((yield from _in_time(packed, clock)))
    # What is there now is told by what has just been measured.
    plan = resolve(plan.inventory, plan.target, plan.cuts, ratios, plan.rules, plan.demand)
    problem = pose(plan, ratios, limits, locked, bounds, effort)
    if not clock.is_over:
        problem = yield from with_others(problem, cache)
    problem = yield from _measured(problem, cache, max_pixels, clock)
    found = fit(_without_losses(problem))
    if clock.is_over:
        return found
    try:
        for _ in range(_ROUNDS):
            found = yield from confirm(found, ratios, cache, max_pixels, clock, ahead)
            if found.solution is None or clock.is_over:
                return found
            problem = yield from made_sounds(found.problem, found.solution.picks, cache)
            if problem.made == found.problem.made:
                return found
            found = fit(problem)
        return found
    finally:
        MadeStore.beside(cache).trim()


def _in_time(task: Task[Measured], clock: Clock) -> Task[Measured]:
    """Return what a task measures until a clock runs out."""
    found = Measured()
    try:
        while not clock.is_over:
            step = next(task)
            if isinstance(step.found, Measured):
                found |= step.found
            yield step
    except StopIteration as end:
        measured: Measured = end.value
        return measured
    task.close()
    return found


def _measured(problem: Problem, cache: SurveyCache, max_pixels: int, clock: Clock) -> Task[Problem]:
    """Return the problem with all losses measured on tiles, or as many as there is time for, those at stake first."""
    if len(problem.keys) < _MANY and clock.deadline == inf:
        return (yield from measure(problem, cache, max_pixels))
    problem = yield from sketch(problem, cache, max_pixels, clock=clock.sooner(_FIRST))
    found = fit(_without_losses(problem))
    yield Progress(0, 0, "deciding", found)
    left = set(range(len(problem.groups)))
    while left and not clock.is_over:
        batch = _at_stake(found, left)[: max(_LEAST_BATCH, len(problem.groups) // _BATCHES)]
        problem = yield from measure(problem, cache, max_pixels, None, clock, batch)
        left.difference_update(batch)
        found = fit(_without_losses(problem))
        yield Progress(0, 0, "deciding", found)
    return problem


def _at_stake(found: Fit, left: set[int]) -> list[int]:
    """Return the groups that are left, those first whose proposal is the most doubtful: that loses most, unmeasured."""
    first = found.problem.choices.first
    picks = first[:-1] if found.solution is None else found.solution.picks
    return sorted(left, key=lambda place: (-float(found.problem.choices.loss[picks[place]]), place))


def _without_losses(problem: Problem) -> Problem:
    """Return the problem with nothing given up for the download, where the package is not what stands in the way."""
    lossy = np.zeros(len(problem.keys), np.bool_)
    count = problem.texture_choices
    lossy[:count] = [problem.option(choice).loss > 0 for choice in range(count)]
    lossy[problem.choices.first[:-1]] = False
    plain = problem.with_losses(np.where(lossy, NEVER, problem.choices.loss))
    found = fit(plain).solution
    stands = found is None or "package" not in problem.lines or found.prices[problem.lines.index("package")] > 0
    return problem if stands else plain
