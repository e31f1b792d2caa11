"""`magnetite methods`."""

from __future__ import annotations

import sys
from dataclasses import asdict
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.output import print_table, say
from magnetite.core.errors import ChainError
from magnetite.core.table import Table

if TYPE_CHECKING:
    from rich.padding import Padding
    from rich.text import Text

    from magnetite.core.chain.named import NamedChain
    from magnetite.core.methods.catalogue import Method, Parameter

_TITLES = {
    "conversion": "Conversions (of size, colour and depth)",
    "degradation": "Degradations",
    "codec": "Codecs",
    "restoration": "Restorations",
    "metric": "Metrics (against a reference)",
    "gauge": "Gauges (of one picture)",
}


class MethodKind(StrEnum):
    """Kinds of method, as they are declared."""

    conversion = "conversion"
    degradation = "degradation"
    codec = "codec"
    restoration = "restoration"
    metric = "metric"
    gauge = "gauge"


def run(
    name: Annotated[
        str | None, typer.Argument(metavar="[NAME]", help="One method, or all if left out.")
    ] = None,
    kind: Annotated[
        MethodKind | None,
        typer.Option(
            help="Only conversion, degradation, codec, restoration, metric or gauge.",
            metavar="KIND",
        ),
    ] = None,
    brief: Annotated[bool, typer.Option("--brief", help="A line for each method.")] = False,
    format: FormatOption = OutputFormat.table,
) -> None:
    chains = _chains(name) if kind in (None, MethodKind.degradation) else []
    chosen = [] if name is not None and chains else _chosen(name)
    chosen = [m for m in chosen if kind is None or m.kind == kind.value]
    settings = Table.of(
        ["kind", "method", "setting", "meaning", "accepts", "default"],
        [row for method in chosen for row in _csv_rows(method)],
    )

    def people() -> None:
        if brief:
            _print_brief(chosen)
        else:
            _print_people(chosen, with_formula=name is not None)
        _print_chains(chains, brief=brief)

    document = {
        "methods": [_as_dict(method) for method in chosen],
        "chains": [asdict(chain) for chain in chains],
    }
    emit(format, Output([settings], document, people, lambda: _markdown(chosen)))


def _chains(name: str | None) -> list[NamedChain]:
    from magnetite.core.chain.named import every_chain, find_chain

    if name is None:
        return every_chain()
    found = find_chain(name)
    return [] if found is None else [found]


def _print_chains(chains: list[NamedChain], *, brief: bool) -> None:
    """Chains with a name: their settings and steps."""
    if not chains:
        return
    if brief:
        rows = [[c.name, " ".join(f"{k}=" for k in c.settings), c.summary] for c in chains]
        print_table(Table.of(["Chains with a name", "settings", "effect"], rows))
        return
    say("\nChains with a name")
    for chain in chains:
        say(f"{chain.name}  {chain.summary}")
        for key in chain.settings:
            default = chain.defaults.get(key)
            say(f"    {key}=  {'required' if default is None else f'default {default}'}")
        say(f"    steps: {chain.steps}")


def _chosen(name: str | None) -> list[Method]:
    import difflib

    from magnetite.core.methods.catalogue import every

    if name is None:
        return every()
    chosen = [method for method in every() if method.name == name]
    if not chosen:
        names = sorted({m.name for m in every()} | {chain.name for chain in _chains(None)})
        near = difflib.get_close_matches(name, names, n=1)
        hint = f"did you mean {near[0]}?" if near else f"known: {', '.join(names)}"
        raise ChainError(f"no method is named {name!r}; {hint}")
    return chosen


def _facts(method: Method) -> list[str]:
    """Declarations of a kind of method beyond its settings, in words."""
    from magnetite.core.methods.declarations import Codec, Figure, Metric

    facts = [f"colour: {method.colour.value}"]
    if method.one_of:
        facts.insert(0, f"exactly one of {', '.join(f'{key}=' for key in method.one_of)}")
    if isinstance(method, Codec):
        facts.append(
            f"quality by {method.quality}=, {method.finer} is finer, swept over {method.points}"
        )
    if isinstance(method, Metric):
        facts.append(f"{method.better} is better")
        same = method.identical
        words = "depends on the picture" if same is None else f"{same:g}"
        facts.append(f"identical pictures: {words}")
    if isinstance(method, Figure):
        facts.append(f"values: {method.values} {method.unit}".rstrip())
        if method.smallest != "1x1":
            facts.append(f"smallest picture: {method.smallest}")
    return facts


def _print_brief(methods: list[Method]) -> None:
    for kind in dict.fromkeys(method.kind for method in methods):
        print_table(
            Table.of(
                [_TITLES[kind], "settings", "effect"],
                [
                    [m.name, " ".join(f"{key}=" for key in m.parameters), m.summary]
                    for m in methods
                    if m.kind == kind
                ],
            )
        )
        print()


def _print_people(methods: list[Method], *, with_formula: bool) -> None:
    from rich.console import Console
    from rich.text import Text

    wide = None if sys.stdout.isatty() else 400
    console = Console(highlight=False, width=wide)
    kind = ""
    for method in methods:
        if method.kind != kind:
            kind = method.kind
            console.print(Text(f"\n{_TITLES[kind]}", style="bold underline"))
        console.print(Text.assemble((method.name, "bold cyan"), f"  {method.summary}"))
        for key, parameter in method.parameters.items():
            words = f"{parameter.describe()}{_default_words(parameter)}"
            line = Text.assemble((f"{key}=", "green"), f"  {words}")
            console.print(_indented(line))
        console.print(_indented(Text("; ".join(_facts(method)), style="dim")))
        if with_formula:
            console.print(_indented(Text(f"\n{method.formula}\n")))
        console.print(_indented(Text(f"source: {method.source}", style="dim")))
    if not with_formula:
        console.print(
            Text("\nOne method with its formula: magnetite methods NAME; all at a glance: --brief",
                 style="dim")
        )  # fmt: skip


def _default_words(parameter: Parameter) -> str:
    if parameter.required:
        return "; required"
    return "" if parameter.default_text is None else f"; default {parameter.default_text}"


def _indented(text: Text) -> Padding:
    from rich.padding import Padding

    return Padding(text, (0, 0, 0, 4), expand=False)


def _as_dict(method: Method) -> dict[str, Any]:
    return {
        "kind": method.kind,
        "name": method.name,
        "version": method.version,
        "summary": method.summary,
        "colour": method.colour.value,
        "settings": [
            {
                "key": key,
                "meaning": parameter.meaning,
                "accepts": parameter.kind.describe(),
                "required": parameter.required,
                "default": parameter.default_text,
            }
            for key, parameter in method.parameters.items()
        ],
        "one_of": list(method.one_of),
        "source": method.source,
    } | method.facts


def _csv_rows(method: Method) -> list[list[str | None]]:
    if not method.parameters:
        return [[method.kind, method.name, "", "", "", ""]]
    return [
        [method.kind, method.name, key, one.meaning, one.kind.describe(), one.default_text]
        for key, one in method.parameters.items()
    ]


def _markdown(methods: list[Method]) -> str:
    lines = [
        "# Methods",
        "",
        "Made from the declarations by `make docs`; `magnetite methods` prints the same.",
    ]
    kind = ""
    for method in methods:
        if method.kind != kind:
            kind = method.kind
            lines += ["", f"## {_TITLES[kind]}"]
        lines += ["", f"### `{method.name}`", "", method.summary, ""]
        lines += settings_table(method)
        lines += [*(f"- {fact}" for fact in _facts(method)), f"- source: {method.source}"]
    return "\n".join(lines)


def settings_table(method: Method) -> list[str]:
    """The settings as lines of a Markdown table and an empty one; none where there are none."""
    if not method.parameters:
        return []
    lines = ["| setting | meaning | accepts | default |", "|---|---|---|---|"]
    for key, parameter in method.parameters.items():
        accepts = parameter.kind.describe().replace("|", "\\|")
        default = "required" if parameter.required else "–"
        if parameter.default_text is not None:
            default = f"`{parameter.default_text}`"
        lines.append(f"| `{key}=` | {parameter.meaning} | {accepts} | {default} |")
    return [*lines, ""]
