"""What every study shares: its declaration, its options, how it tells of its progress and how it is stopped."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from pydantic import BaseModel

from ..errors import FieldProblem, InvalidFields, VastMeshError
from ..network import Change, Condition, Element, Network, Role, Scheme, layered, schemes_in_order, specs
from ..results import Cause, Result
from ..workings import Working

Progress = Callable[[float, str], None]


class StopRequested(VastMeshError):
    """Somebody wants a calculation to end: raised by its progress. One with something to show may answer with that."""

    code = "cancelled"

    def __str__(self) -> str:
        return "The run was cancelled; nothing of it is kept."


@dataclass(frozen=True)
class Inputs:
    """What a study is made of: plain data that can be sent to another process.

    ``network``: as it stands, schemes that are on included; ``condition``: the one in use unless another is named;
    ``schemes``: which are on, by id; ``back``: leads from it to the present network, without any; ``revision``: of the network.
    """

    network: Network
    condition: Condition | None = None
    schemes: tuple[str, ...] = ()
    revision: int = 0
    back: tuple[Change, ...] = ()

    @classmethod
    def of(cls, present: Network) -> Inputs:
        """A present network under the schemes in it that are on."""
        layers = layered(present)
        return cls(layers.network, schemes=tuple(s.id for s in present.of(Scheme) if s.active), back=layers.back)

    def laid(self, schemes: Sequence[str]) -> Inputs:
        """The same under these schemes instead, by id. Raises :class:`InvalidFields` for one that is not there."""
        present = self.network.copy()
        present.apply(self.back)
        return replace(self, network=layered(present, schemes).network, schemes=tuple(schemes), back=())

    @property
    def under(self) -> Condition:
        """The condition that counts."""
        return self.condition or self.network.condition


@dataclass(frozen=True)
class Case:
    """One of the states that are held beside each other: what it is called, and the inputs of it."""

    label: str
    inputs: Inputs


def cases(inputs: Inputs, over: str) -> list[Case]:
    """``present``: what is given, without a label. ``conditions``: every condition. ``schemes``: the present network, each scheme
    alone, and those that are on together where they are several."""
    if over == "conditions":
        return [Case(c.name, replace(inputs, condition=c)) for c in inputs.network.of(Condition)] or [Case("", inputs)]
    if over == "schemes":
        every = [("no scheme", ()), *((s.name, (s.id,)) for s in schemes_in_order(inputs.network))]
        several = [("all that are on", inputs.schemes)] if len(inputs.schemes) > 1 else []
        return [Case(label, inputs.laid(chosen)) for label, chosen in (*every, *several)]
    return [Case("", inputs)]


Desk = Literal["studies", "limits", "reliability", "optimise", "decide", "plan"]
Explain = Callable[[Network, Result, Condition, str, Mapping[str, Any]], list[Working]]
Causes = Callable[["Inputs", Result, Mapping[str, Any], str, str], Cause]
Answer = Mapping[str, Any]


NOT_NEEDED = "It was not needed."


@dataclass(frozen=True)
class Missing:
    """A part of a study without an answer. ``why``: what went wrong with it; blank while it is not there yet."""

    why: str = ""


@dataclass(frozen=True)
class Split:
    """How a study comes apart into parts that know nothing of each other, so that they can be worked on side by side.

    ``plan``: the parts, as plain data, in the order in which tables show them. ``prepare``: what all parts need, made once
    in every process; a part must find it as it was, or its answer would depend on who had it before. ``answer``: of one
    part, plain values and arrays by name. ``join``: the whole from the answers, in the order of the parts; also asked
    while some are missing, so that what is there can be looked at. ``enough``: whether no further part is needed, by the
    answers so far; ``join`` must give the same whichever parts were done beyond these.
    """

    plan: Callable[[Inputs, Any], Sequence[Any]]
    prepare: Callable[[Inputs, Any], Any]
    answer: Callable[[Any, Any, Progress], Answer]
    join: Callable[[Inputs, Any, Sequence[Any], Sequence[Answer | Missing]], Result]
    enough: Callable[[Any, Sequence[Answer | Missing]], bool] | None = None

    def run(self, inputs: Inputs, options: Any, progress: Progress) -> Result:
        """All parts one after another, here and now."""
        parts = self.plan(inputs, options)
        ready = self.prepare(inputs, options)
        answers: list[Answer | Missing] = []
        for n, part in enumerate(parts):
            answers.append(self.answer(ready, part, _share(progress, n, len(parts))))
            if self.enough is not None and self.enough(options, answers):
                break
        answers += [Missing(NOT_NEEDED)] * (len(parts) - len(answers))
        return self.join(inputs, options, parts, answers)


def _share(progress: Progress, n: int, of: int) -> Progress:
    """Progress of one part as progress of the whole."""
    return lambda fraction, doing: progress((n + fraction) / of, doing)


@dataclass(frozen=True)
class Study:
    """A kind of calculation, as the API and the command line list it.

    ``live``: solved after every edit by itself. ``follows``: quick enough to follow the edits while its runs take less
    than half a second. ``explain``: how the figures of its result at an element came about,
    under the options it was asked with. ``split``: how it comes apart
    into parts. ``ends_with_best``: asked to stop it answers with the best so far, which may take some seconds.
    ``desk``: where its page stands: among the questions about the network, among those about what it survives and can carry,
    about how reliable it is,
    among those that look for the best, or beside
    the schemes, where its answer is what to build or allow. ``cause``: of a finding at an
    element by a quantity, with what was tried and helps.
    """

    name: str
    label: str
    purpose: str
    options: type[BaseModel]
    run: Callable[[Inputs, Any, Progress], Result]
    live: bool = False
    follows: bool = False
    explain: Explain | None = None
    split: Split | None = None
    ends_with_best: bool = False
    desk: Desk = "studies"
    cause: Causes | None = None


STUDIES: dict[str, Study] = {}


def study_named(name: str) -> Study:
    """A study by its name. Raises :class:`InvalidFields` that lists those there are."""
    if name not in STUDIES:
        raise InvalidFields([FieldProblem("run", "study", name, "choose one of " + ", ".join(STUDIES))])
    return STUDIES[name]


def register(study: Study) -> Study:
    """Take a study among those there are. Whoever runs or plans it has been told before that what its options name is there."""
    found = replace(study, run=_Checked(study.run))
    if study.split is not None:
        found = replace(found, split=replace(study.split, plan=_Checked(study.split.plan)))
    STUDIES[study.name] = found
    return found


@dataclass(frozen=True)
class _Checked:
    """A function of inputs and options, behind a look at what these name; other processes find it by that function."""

    does: Callable[..., Any]

    def __call__(self, inputs: Inputs, options: Any, *more: Any) -> Any:
        check_named(inputs.network, options)
        return self.does(inputs, options, *more)


def check_named(network: Network, options: BaseModel) -> None:
    """Raises :class:`InvalidFields` for every option that names what is not there, or what is of another kind."""
    problems = []
    for name, spec in specs(type(options)).items():
        if spec.ref is None:
            continue
        value = getattr(options, name)
        for ident in value if isinstance(value, list | tuple) else [value] if value is not None else []:
            item = network.items.get(ident)
            fits = item is not None and (
                item.kind == spec.ref or spec.ref == "bank"
                or (isinstance(item, Element) and (spec.ref == "element" or (spec.ref == "branch" and item.role is Role.BRANCH)))
            )  # fmt: skip
            if not fits:
                text = f"there is no such {spec.ref}; name an existing {spec.ref}" + (
                    ", or none" if spec.nullable else ""
                )
                problems.append(FieldProblem("options", name, ident, text))
    if problems:
        raise InvalidFields(problems)
