"""Every output of ``--json`` as a typed table; a dataclass in one has its fields in camelCase."""

from __future__ import annotations

from typing import Any, NotRequired, TypedDict

from zeroseal.guests.components import Kind
from zeroseal.reports.schemas.disks import (
    CheckOutput,
    ComparisonOutput,
    ErrorOutput,
    ExportOutput,
    Output,
    PlanPart,
    RehearsalOutput,
    ReportOutput,
    RulesOutput,
    SealOutput,
    SurveyOutput,
    TracesOutput,
)
from zeroseal.reports.schemas.machines import (
    BuildsOutput,
    DefinitionOutput,
    LearnedOutput,
    MachineOutput,
    MachinesOutput,
    RemovalOutput,
    RenewalOutput,
    RunOutput,
    SnapshotsOutput,
    TrialOutput,
)
from zeroseal.reports.schemas.templates import (
    CloneCheckOutput,
    ClonesOutput,
    DifferenceOutput,
    ShelfChangeOutput,
    ShelfOutput,
    SyncOutput,
    TemplateOutput,
    VerificationOutput,
)


class AnswerOutput(Output):
    """The answer on one image or machine of many."""

    image: NotRequired[str]
    machine: NotRequired[str]
    template: NotRequired[str]
    status: int | None
    word: str
    sentence: str
    answer: dict[str, Any]
    unchangedSince: NotRequired[int]
    worker: NotRequired[str]


class ManyOutput(Output):
    """The answers on many images or machines."""

    command: str
    images: NotRequired[list[AnswerOutput]]
    machines: NotRequired[list[AnswerOutput]]
    templates: NotRequired[list[AnswerOutput]]


class ListedComponent(TypedDict):
    """One thing that is installed; what its record does not say is left out."""

    kind: Kind
    name: str
    version: NotRequired[str]
    architecture: NotRequired[str]
    source: NotRequired[str]
    maker: NotRequired[str]
    place: NotRequired[str]


class ContentsOutput(Output):
    """What is installed."""

    name: str
    system: str
    systemId: str
    systemVersion: str
    changedAt: int
    components: list[ListedComponent]
    digest: str
    diskDigest: str | None
    written: list[str]


class ContentsListFile(TypedDict):
    """``contents.json`` of a template."""

    schema: str
    version: int
    system: str
    systemId: str
    systemVersion: str
    changedAt: int
    components: list[ListedComponent]


class SettingInForce(TypedDict):
    """A setting and where it comes from."""

    name: str
    value: str | list[str]
    origin: str


class ConfigOutput(Output):
    """The settings in force."""

    settings: list[SettingInForce]


class TextOutput(Output):
    """An example of a file."""

    text: str


class CompletionOutput(Output):
    """The completion script of a shell."""

    shell: str
    script: str


class SchemasOutput(Output):
    """The schemas that there are."""

    schemas: list[str]


class Desk(TypedDict):
    """The part of the demo with a Windows guest."""

    refusal: str
    seal: SealOutput
    check: CheckOutput
    clones: ClonesOutput
    runs: list[RunOutput]
    comparison: ComparisonOutput


class DemoOutput(Output):
    """Every step of the demo."""

    build: MachineOutput
    survey: SurveyOutput
    checks: list[CheckOutput]
    seal: SealOutput
    shelf: ShelfOutput
    clones: ClonesOutput
    asAsked: dict[str, bool]
    runs: list[RunOutput]
    desk: Desk
    comparison: ComparisonOutput


OUTPUTS: dict[str, Any] = {
    "answer": AnswerOutput,
    "builds": BuildsOutput,
    "check": CheckOutput,
    "clone-check": CloneCheckOutput,
    "clones": ClonesOutput,
    "comparison": ComparisonOutput,
    "completion": CompletionOutput,
    "config": ConfigOutput,
    "config-example": TextOutput,
    "contents": ContentsOutput,
    "definition": DefinitionOutput,
    "demo": DemoOutput,
    "error": ErrorOutput,
    "export": ExportOutput,
    "learned": LearnedOutput,
    "machine": MachineOutput,
    "machines": MachinesOutput,
    "many": ManyOutput,
    "plan": PlanPart,
    "rehearsal": RehearsalOutput,
    "removal": RemovalOutput,
    "renewal": RenewalOutput,
    "report": ReportOutput,
    "rules": RulesOutput,
    "run": RunOutput,
    "schemas": SchemasOutput,
    "seal": SealOutput,
    "shelf": ShelfOutput,
    "shelf-change": ShelfChangeOutput,
    "shelf-difference": DifferenceOutput,
    "shelf-sync": SyncOutput,
    "shelf-verification": VerificationOutput,
    "snapshots": SnapshotsOutput,
    "survey": SurveyOutput,
    "template": TemplateOutput,
    "traces": TracesOutput,
    "trial": TrialOutput,
}
