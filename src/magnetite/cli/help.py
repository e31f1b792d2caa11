"""Help texts that follow from the declared methods."""

from __future__ import annotations

from typing import Any

from typer.core import TyperCommand

_TITLES = {
    "conversion": "Conversions",
    "degradation": "Degradations",
    "codec": "Codecs",
    "restoration": "Restorations",
    "metric": "Metrics",
    "gauge": "Gauges",
}


class StepsCommand(TyperCommand):
    """A command whose help ends with the methods that it takes."""

    kinds: tuple[str, ...] = ()

    def format_help(self, ctx: Any, formatter: Any) -> None:
        parts = [_listing(kind) for kind in self.kinds]
        if "degradation" in self.kinds:
            parts.append(_named())
        self.epilog = "\n\n".join(parts)
        super().format_help(ctx, formatter)


def steps_of(*kinds: str) -> type[StepsCommand]:
    """A command class that lists the methods of these kinds."""
    return type("StepsCommand", (StepsCommand,), {"kinds": kinds})


def _listing(kind: str) -> str:
    from magnetite.core.methods.catalogue import every

    names = []
    for method in every(kind):
        keys = " ".join(f"{key}=" for key in method.parameters)
        names.append(f"[bold]{method.name}[/bold] {keys}".strip())
    return f"{_TITLES[kind]}: {', '.join(names)}. See [bold]magnetite methods NAME[/bold]."


def _named() -> str:
    from magnetite.core.chain.named import every_chain

    names = [
        f"[bold]{chain.name}[/bold] {' '.join(f'{key}=' for key in chain.settings)}".strip()
        for chain in every_chain()
    ]
    return f"Chains with a name: {', '.join(names)}. See [bold]magnetite methods NAME[/bold]."
