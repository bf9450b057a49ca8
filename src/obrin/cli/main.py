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
        "new": ("design.new", "Write a starting design from a few facts."),
        "migrate": ("design.migrate", "Rename keys that were called something else before."),
        "gather": ("design.gather", "Take in ranges that are in use, from CSV or JSON."),
        "settle": ("design.settle", "Choose a value for every blank, and say why."),
        "space": (
            "design.space_remedies",
            "Show who uses which range, what is free, what overlaps.",
        ),
        "classes": ("design.classes", "List capacity classes, and why each is not chosen."),
    },
    "Prove": {
        "check": ("prove.check", "Find what would go wrong, before anything exists."),
        "profiles": ("prove.profiles", "Show what each kind of device can do."),
        "agree": ("prove.agree", "Show what both ends negotiate, and when it fails."),
        "routes": ("prove.routes", "Show every route of every table, and why it won."),
        "trace": ("prove.trace", "Follow one packet hop by hop, and its answer back."),
        "reach": ("prove.reach", "Show what can talk to what, and what was asked for."),
        "drill": ("prove.drill", "Try failures on the model: what is lost, for how long."),
        "overhead": ("prove.overhead", "Show what ESP adds, and the MTU and MSS that remain."),
    },
    "Hand over": {
        "keys": ("handover.keys_rotate", "Pre-shared keys: list, show, set, renew, rotate, seal."),
        "certificates": (
            "handover.certificates_rotate",
            "Certificates: list, renew, rotate, revoke, sign, check.",
        ),
        "handover": ("handover.handover", "Write one pack for each gateway."),
        "compare": ("handover.compare", "Compare what was entered with what was meant."),
    },
    "Connect": {
        "practice": (
            "connect.practice_faults",
            "Run the practice world: start, stop, status, cut, heal.",
        ),
        "rehearse": ("connect.rehearse", "Try everything with packets, in virtual time."),
        "connect": ("connect.connect", "Build the cloud side, hand over packs, wait until up."),
        "status": ("connect.status", "Show both ends of every tunnel, side by side."),
        "probe": ("connect.probe", "Try what must work and what must not."),
    },
    "Keep": {
        "reshape": (
            "keep.reshape",
            "Change what is built into what is wanted, in a proven order.",
        ),
        "calendar": ("keep.calendar", "List what ends on which day, also for your calendar."),
        "draw": ("keep.draw", "Draw figures of a design, as SVG or PNG."),
    },
    "Help": {
        "demo": ("demo", "Run the whole story on the practice world, in half a minute."),
        "algorithms": ("help.algorithms", "List algorithms, their strength and their standing."),
        "schema": ("help.schema", "Print the JSON Schema of the design file."),
    },
}
"""Commands by the stages of the job: the module below `obrin.cli` that holds each, and its help."""

COMMANDS = {name: entry for group in STAGES.values() for name, entry in group.items()}


class StagedGroup(click.Group):
    """A group that lists its commands by stage without importing any of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        entry = COMMANDS.get(cmd_name)
        if entry is None:
            return None
        command: click.Command = getattr(importlib.import_module(f"obrin.cli.{entry[0]}"), cmd_name)
        return command

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """Complete as click does, without importing a command for its name."""
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
    """Write to stderr; text from outside cannot act on the terminal and is cut at a limit."""
    click.echo(clean(text), err=True)


def _show_warning(message: Warning | str, *_where: Any, **_more: Any) -> None:
    """Show a library's warning, escaped, since it may quote a file."""
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
