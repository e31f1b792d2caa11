"""The `magnetite` program: its commands, and the handling of errors."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

import typer
from typer.core import TyperGroup
from typer.exceptions import TyperException

from magnetite.cli.commands import COMMANDS, Command
from magnetite.cli.completion import line_to_complete
from magnetite.cli.help import steps_of
from magnetite.cli.options import limits, note
from magnetite.cli.signals import INTERRUPTED, leave, stopping, watch
from magnetite.cli.sizes import bytes_of
from magnetite.cli.streams import flush_or_give_up, give_up_output, prepare_streams
from magnetite.core.errors import MagnetiteError, TargetError
from magnetite.core.limits import MAX_SAMPLES, MEMORY
from magnetite.files.names import shown

if TYPE_CHECKING:
    from magnetite.core.chain.step import Chain

#: Options before the command that take a value.
VALUED = {"--threads", "--max-samples", "--memory", "--convert", "--commands"}


@cache
def program(only: str | None = None) -> TyperGroup:
    """The program with one command, or with the names of all, for the overview.

    Commands are imported when they are called.
    """
    app = typer.Typer(
        name="magnetite",
        help="Degrade test pictures by known amounts, compress and restore them, score the "
        "results.",
        epilog="Chains: gaussian-blur sigma=1.6px + gaussian-noise sd=12dn. "
        "[bold]magnetite methods[/bold] lists every step, metric and gauge. "
        "Exit status: 0 done, 1 a target was missed, 2 bad input, 3 rows of a run failed, "
        "130 interrupted.",
        add_completion=False,
        pretty_exceptions_enable=False,
        rich_markup_mode="rich",
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback()(_options)
    for name, command in COMMANDS.items():
        if only == name:
            _add(app, name, command)
        elif only is None:
            app.command(name, help=command.summary)(_not_imported)
    return cast(TyperGroup, typer.main.get_command(app))


def _add(app: typer.Typer, name: str, command: Command) -> None:
    module = import_module(f"magnetite.cli.{name}")
    if command.group:
        app.add_typer(module.app, name=name, help=command.summary)
        return
    details = module.run.__doc__
    text = command.summary if details is None else f"{command.summary}\n\n{details}"
    listed = steps_of(*command.kinds) if command.kinds else None
    app.command(name, help=text, cls=listed)(module.run)


def _not_imported() -> None:
    """In place of a command whose name and summary alone are needed."""


def command_of(words: Sequence[str]) -> str | None:
    """The command that the words of a command line call; None where that is not plain."""
    left = iter(words)
    for word in left:
        if word in VALUED:
            next(left, None)
        elif not word.startswith("-"):
            return word if word in COMMANDS else None
    return None


def _print_version(wanted: bool) -> None:
    if wanted:
        from magnetite.experiment.provenance import machine

        for name, value in machine().items():
            print(f"{name.lower()} {value}")
        raise typer.Exit


def _options(
    version: Annotated[
        bool,
        typer.Option(
            "--version",
            callback=_print_version,
            is_eager=True,
            help="Print the versions of all that makes figures, and exit.",
        ),
    ] = False,
    threads: Annotated[
        int | None,
        typer.Option(
            help="Threads of the heavy loops, all cores by default; no result depends on it.",
            min=1,
            max=256,
        ),
    ] = None,
    max_samples: Annotated[
        int, typer.Option(help="Pictures that declare more samples are refused.", min=1, max=2**40)
    ] = MAX_SAMPLES,
    memory: Annotated[
        str,
        typer.Option(
            help="TIFF and NPY files that would take more memory are worked on in bands of rows, "
            "as in 1.5GiB (docs/large.md).",
            metavar="SIZE",
        ),
    ] = f"{MEMORY // 2**30}GiB",
    conversion: Annotated[
        str | None,
        typer.Option(
            "--convert",
            help="Chain of conversions applied to every picture that the command reads, as in: "
            "--convert 'gray weights=bt709 + depth bits=8'.",
            metavar="STEPS",
        ),
    ] = None,
    quiet: Annotated[
        bool, typer.Option("--quiet", help="Say results and errors only; also after the command.")
    ] = False,
    commands: Annotated[
        Path | None,
        typer.Option(
            help="Commands of your own to be used as codecs and restorations, a TOML file "
            "(docs/commands.md).",
            metavar="FILE",
        ),
    ] = None,
) -> None:
    from magnetite.core.compute.compiling import run_alone, tell_of_compiling
    from magnetite.core.compute.threads import cores, use_threads

    run_alone()
    use_threads(threads or cores())
    limits.max_samples = max_samples
    limits.memory = bytes_of(memory)
    tell_of_compiling(_say_compiling() if sys.stderr.isatty() and not quiet else None)
    limits.quiet = quiet
    limits.conversion = None if conversion is None else _conversion(conversion)
    if commands is not None:
        from magnetite.external import declare

        declare(commands)
        limits.commands = (commands.resolve(),)


def _conversion(text: str) -> Chain:
    from magnetite.core.chain.notation import parse_chain

    return parse_chain(text, "conversion")


def main() -> None:
    """Run the program."""
    watch()
    try:
        prepare_streams()
        status = execute(sys.argv[1:])
    finally:
        if (ended := stopping()) is not None:
            leave(ended)
    sys.exit(status)


_INTRODUCTION = """\
Magnetite degrades, compresses and restores test pictures by known amounts, and scores the results.
Try:       magnetite demo                 the whole job on made-up scenes, with a report
Learn:     docs/tutorial.md               from a reference to rate-distortion curves, step by step
Commands:  magnetite --help               and magnetite COMMAND --help
Steps:     magnetite methods              every degradation, codec, restoration, metric and gauge"""


def execute(words: Sequence[str]) -> int:
    """Carry out a command line; return its exit status.

    Every error that is bad input becomes one line on standard error and status 2.
    """
    try:
        completed = line_to_complete()
        if not words and completed is None:
            print(_INTRODUCTION)
            return 0
        command = program(command_of(words if completed is None else completed))
        status = command(_program_first(words), prog_name="magnetite", standalone_mode=False)
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader of our output has gone: nothing is left to say, nor anyone to say it to.
        give_up_output()
        return 0
    except SystemExit as end:
        # The argument parser turns a broken pipe into an exit; a signal ends the program.
        give_up_output()
        return end.code if isinstance(end.code, int) and end.code > _SIGNALS else 0
    except KeyboardInterrupt:
        status = INTERRUPTED
    except (MagnetiteError, OSError, MemoryError, TyperException) as error:
        flush_or_give_up()
        print(f"magnetite: {_one_line(error)}", file=sys.stderr)
        return 1 if isinstance(error, TargetError) else 2
    except Exception as error:
        # Where a class is being made, Python turns a signal's exception into one of its own.
        if (ended := stopping()) is None:
            return _unexpected(error)
        status = ended
    if status == INTERRUPTED:
        print("magnetite: interrupted", file=sys.stderr)
    _say_uncached()
    return status if isinstance(status, int) else 0


def _unexpected(error: Exception) -> int:
    """Say where an error of the program itself arose; its exit status."""
    import traceback

    flush_or_give_up()
    if os.environ.get(_TRACEBACK):
        traceback.print_exception(error)
    last = traceback.extract_tb(error.__traceback__)[-1]
    module = Path(last.filename).with_suffix("").parts[-3:]
    told = shortened(shown(" ".join(f"{type(error).__name__}: {error}".split())))
    print(
        f"magnetite: an error of the program itself, {told}, in {'.'.join(module)} line "
        f"{last.lineno}: please report this line to its developers, with the command; "
        f"{_TRACEBACK}=1 shows the traceback",
        file=sys.stderr,
    )
    return UNEXPECTED


#: Exit status of an error of the program itself, and the variable that shows its traceback.
UNEXPECTED, _TRACEBACK = 70, "MAGNETITE_TRACEBACK"


def _program_first(words: Sequence[str]) -> list[str]:
    """The words with the program's own options in front, wherever they stood before a `--`."""
    end = words.index("--") if "--" in words else len(words)
    own: list[str] = []
    rest: list[str] = []
    left = iter(words[:end])
    for word in left:
        if word == "--quiet" or word.partition("=")[0] in VALUED:
            value = next(left, None) if word in VALUED else ""
            if value is None:
                return [word]  # the parser names the missing word
            own += [word, value] if value else [word]
        else:
            rest.append(word)
    return own + rest + list(words[end:])


#: Exit statuses above this are those of signals.
_SIGNALS = 128


def _say_compiling() -> Callable[[str], None]:
    """Says once why the first command takes longer."""
    said: list[str] = []

    def listener(name: str) -> None:
        if not said:
            note("compiling loops, which is done once; magnetite prepare does it ahead")
        said.append(name)

    return listener


def _say_uncached() -> None:
    """Say it where loops were compiled that the next process must compile again."""
    jit = sys.modules.get("magnetite.core.compute.jit")
    if jit is not None and not jit.is_kept():
        note(
            "compiled loops are not kept, for no cache folder can be written; name one with the "
            "environment variable NUMBA_CACHE_DIR"
        )


def _one_line(error: Exception) -> str:
    if isinstance(error, TyperException):
        message = _usage_message(error)
    elif isinstance(error, OSError):
        where = f"{error.filename}: " if error.filename else ""
        message = f"{where}{error.strerror or error}"
    elif isinstance(error, MemoryError):
        message = "the picture does not fit into memory"
    else:
        message = str(error)
    return shortened(shown(" ".join(message.split())))


#: A message that is longer was made of something that was given.
_LONGEST_LINE = 1000


def shortened(line: str) -> str:
    """The line, its middle left out where it is very long."""
    if len(line) <= _LONGEST_LINE:
        return line
    half = _LONGEST_LINE // 2 - 1
    return f"{line[:half]} … {line[-half:]}"


def _usage_message(error: TyperException) -> str:
    context = getattr(error, "ctx", None)
    message = error.format_message().rstrip(".")
    if context is not None and context.parent is None and hasattr(error, "option_name"):
        message += "; options of a command stand after its name"
    if context is None:
        return message
    return f"{message} (see {context.command_path} --help)"
