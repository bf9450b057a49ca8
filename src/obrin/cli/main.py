"""The command line: which commands exist, grouped by stage; each is imported when it is called."""

from __future__ import annotations

import importlib
import os
import sys
import warnings
from typing import Any

import click
from click.shell_completion import CompletionItem

from obrin import __version__
from obrin.core.text import clean

MOST_PROBLEMS = 200

STAGES: dict[str, dict[str, tuple[str, str]]] = {
    "Design": {
        "new": ("obrin.cli.new", "Write a starting design from a few facts."),
        "gather": ("obrin.cli.gather", "Take in ranges that are in use, from CSV or JSON."),
        "settle": ("obrin.cli.design", "Choose a value for every blank, and say why."),
        "space": ("obrin.cli.space_remedies", "Who has what, what is free, what collides."),
        "classes": ("obrin.cli.classes", "Capacity classes, and why each is not taken."),
    },
    "Prove": {
        "check": ("obrin.cli.prove", "Find what would go wrong, before anything exists."),
        "profiles": ("obrin.cli.profiles", "What kinds of device are able to do."),
        "agree": ("obrin.cli.agree", "What both ends will say to each other, and when it fails."),
        "routes": ("obrin.cli.routes", "Every route in every table, and why it won or lost."),
        "trace": ("obrin.cli.trace", "One packet hop by hop, and its answer back."),
        "reach": ("obrin.cli.reach", "What may talk to what, and whether anybody asked for it."),
        "drill": ("obrin.cli.drill", "Failures tried on the model: lost, moved, for how long."),
        "overhead": ("obrin.cli.overhead", "What ESP adds, and the MTU and MSS that are left."),
    },
    "Hand over": {
        "keys": ("obrin.cli.keys_rotate", "Pre-shared keys: list, show, set, renew, rotate, seal."),
        "certificates": (
            "obrin.cli.certificates_rotate",
            "Certificates: list, renew, rotate, revoke, sign, check.",
        ),
        "handover": ("obrin.cli.handover", "Write one pack for each gateway."),
        "compare": ("obrin.cli.compare", "What was entered, held against what was meant."),
    },
    "Connect": {
        "practice": (
            "obrin.cli.practice_faults",
            "The practice world: start, stop, status, cut, heal.",
        ),
        "rehearse": ("obrin.cli.rehearse", "Everything tried with packets, in virtual time."),
        "connect": ("obrin.cli.connect", "Build the cloud side, hand over packs, wait until up."),
        "status": ("obrin.cli.status", "Both ends of every tunnel, side by side."),
        "probe": ("obrin.cli.probe", "Try what must work and what must not."),
    },
    "Keep": {
        "reshape": (
            "obrin.cli.reshape",
            "From what is built to what is wanted, in a proven order.",
        ),
        "calendar": ("obrin.cli.calendar", "What ends on which day, also for your calendar."),
        "draw": ("obrin.cli.draw", "Figures of a design, as SVG or PNG."),
    },
    "Help": {
        "demo": ("obrin.cli.demo", "The whole story on the practice world, in half a minute."),
        "algorithms": ("obrin.cli.algorithms", "Algorithms, their strength and standing."),
        "schema": ("obrin.cli.design", "The JSON Schema of the design file."),
    },
}

COMMANDS = {name: entry for group in STAGES.values() for name, entry in group.items()}


class StagedGroup(click.Group):
    """A group that lists its commands by stage without importing any of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        entry = COMMANDS.get(cmd_name)
        if entry is None:
            return None
        command: click.Command = getattr(importlib.import_module(entry[0]), cmd_name)
        return command

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """As click does it, but that no command is imported for its name."""
        named = [
            CompletionItem(name, help=words)
            for name, (_, words) in COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return named + click.Command.shell_complete(self, ctx, incomplete)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for stage, commands in STAGES.items():
            with formatter.section(stage):
                formatter.write_dl([(name, entry[1]) for name, entry in commands.items()])


@click.group(cls=StagedGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, "-V", "--version", prog_name="obrin")
def obrin() -> None:
    """Plan, prove, connect and keep redundant IPsec links between sites and clouds.

    Start with 'obrin demo', or with 'obrin new' for a design of your own.
    """


def run() -> int:
    """Everything that ends a command, as an exit code (see entry.py) and at most a few lines."""
    from obrin.live.waiting import tell_by

    _prepare_streams()
    tell_by(lambda words: _say(f"waiting: {words}"))
    warnings.showwarning = _show_warning
    try:
        code = _run()
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        return code
    except BrokenPipeError:
        _abandon(sys.stdout, sys.stderr)  # whoever read has enough
        return 0
    except OSError as error:
        _abandon(sys.stdout)
        name = f" {clean(str(error.filename))}" if error.filename else ""
        _say(
            f"obrin:{name}: {error.strerror or type(error).__name__}"
            if name
            else f"obrin: cannot go on: {error.strerror or type(error).__name__}"
        )
        return 3
    except Exception as error:  # the one place that turns whatever escapes into one line
        from obrin.cli.escaped import tell

        _abandon(sys.stdout)
        return tell(error, _command())


def _run() -> int:
    from obrin.core.errors import DesignError, ObrinError

    code: Any = 0
    try:
        code = obrin.main(standalone_mode=False)
    except (click.exceptions.Abort, KeyboardInterrupt):
        _say("interrupted")
        code = 130
    except click.ClickException as error:
        said = error.format_message()
        if clean(said) == said:
            error.show()
        else:
            _say(f"Error: {said}")
        code = error.exit_code
    except DesignError as error:
        for problem in error.problems[:MOST_PROBLEMS]:
            _say(str(problem))
        if len(error.problems) > 1:
            _say(f"{len(error.problems)} mistakes.")
        code = error.exit_code
    except ObrinError as error:
        _say(f"obrin: {error}")
        code = error.exit_code
    return code if isinstance(code, int) else 0


def _say(text: str) -> None:
    """On stderr; whatever came from outside cannot act on the terminal, and has an end."""
    click.echo(clean(text), err=True)


def _show_warning(message: Warning | str, *_where: Any, **_more: Any) -> None:
    """Of a library; what it quotes may be of a file."""
    _say(f"note: {message}")


def _command() -> str:
    """The words that name a command, and nothing that was given to it."""
    words = []
    group: click.Command | None = obrin
    for word in sys.argv[1:]:
        if not isinstance(group, click.Group) or word not in group.list_commands(
            click.Context(group)
        ):
            break
        words.append(word)
        group = group.get_command(click.Context(group), word)
    return " ".join(words)


def _prepare_streams() -> None:
    """A closed stream is nobody listening; what cannot be encoded is shown escaped."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    if sys.stdin is None:
        sys.stdin = open(os.devnull, encoding="utf-8")  # noqa: SIM115


def _abandon(*streams: Any) -> None:
    """Nothing more goes out there, not even when Python tidies up."""
    for stream in streams:
        try:
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
        except (OSError, ValueError):
            continue
