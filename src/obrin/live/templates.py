"""A user's own Jinja2 template, rendered from the documented context; a hole is an error.

Templates come from anywhere. They cannot reach Python's insides (a sandbox), and they are rendered
in a child process with an end to its time and memory, so that one that loops, or grows, is a
message and not a machine that hangs.
"""

from __future__ import annotations

import json
import os
import resource
import signal
import time
from pathlib import Path
from typing import Any, NoReturn

from obrin.core.errors import ObrinError
from obrin.core.json_text import parse_json
from obrin.live.secrets.file import PASSPHRASE

SECONDS = 10
MEMORY = 1 << 30
"""Bytes beyond what the program has already."""
MOST_TEXT = 16 << 20


class TemplateFault(ObrinError):
    """A template that cannot be rendered; the text says where, what and how to put it right."""


def render_template(text: str, path: Path, context: dict[str, Any]) -> str:
    """Raises TemplateFault with file, line and column."""
    import jinja2.sandbox  # noqa: F401  # loaded here, so that the child has it already

    readable, writable = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(readable)
        _render_and_exit(text, path, context, writable)
    os.close(writable)
    try:
        with os.fdopen(readable, "rb") as pipe:
            answer = pipe.read(MOST_TEXT * 2)
    finally:
        _end(child)
    try:
        found = parse_json(answer)
    except ValueError:
        raise TemplateFault(
            f"{path}:1:1: rendering it takes more than {SECONDS} s or {MEMORY >> 20} MiB. Look for "
            "a loop that does not end, or a text that grows without need"
        ) from None
    if "fault" in found:
        raise TemplateFault(found["fault"])
    return str(found["text"])


def _end(child: int) -> None:
    """The child is gone after this, whatever it was doing."""
    try:
        os.kill(child, signal.SIGKILL)
    finally:
        os.waitpid(child, 0)


def _render_and_exit(text: str, path: Path, context: dict[str, Any], pipe: int) -> NoReturn:
    """Run in the child: nothing of the parent's is tidied up, flushed or left."""
    try:
        os.environ.pop(PASSPHRASE, None)
        signal.signal(signal.SIGALRM, signal.SIG_DFL)
        signal.alarm(SECONDS)
        resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        _limit_memory()
        try:
            answer = {"text": _rendered(text, path, context)}
        except TemplateFault as fault:
            answer = {"fault": str(fault)}
        data = json.dumps(answer).encode()
        while data:
            data = data[os.write(pipe, data) :]
    finally:
        os._exit(0)


def _limit_memory() -> None:
    """What is there already, and MEMORY more. Where the system cannot say, only time is limited."""
    try:
        pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0])
    except (OSError, ValueError):
        return
    most = pages * resource.getpagesize() + MEMORY
    resource.setrlimit(resource.RLIMIT_AS, (most, most))


def _rendered(text: str, path: Path, context: dict[str, Any]) -> str:
    import jinja2
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    class Hole(jinja2.StrictUndefined):
        """An unknown name, reported in our words."""

        @property
        def _undefined_message(self) -> str:
            return _what_is_missing(self._undefined_obj, str(self._undefined_name))

    environment = ImmutableSandboxedEnvironment(
        undefined=Hole,
        keep_trailing_newline=True,
        trim_blocks=True,
        lstrip_blocks=True,
        autoescape=False,
    )
    until = time.monotonic() + SECONDS
    try:
        parts, size = [], 0
        for part in environment.from_string(text).generate(context):
            parts.append(part)
            size += len(part)
            if size > MOST_TEXT or time.monotonic() > until:
                raise TemplateFault(f"{path}:1:1: it makes more than {MOST_TEXT >> 20} MiB of text")
        return "".join(parts)
    except jinja2.TemplateSyntaxError as error:
        raise TemplateFault(
            f"{path}:{error.lineno}:1: this is not a template: {error.message}. Correct this line"
        ) from None
    except jinja2.UndefinedError as error:
        raise TemplateFault(_fault(text, path, error, str(error.message), context)) from None
    except (
        jinja2.TemplateError,
        ArithmeticError,
        AttributeError,
        LookupError,
        RecursionError,
        TypeError,
        ValueError,
    ) as error:
        what = f"this cannot be computed: {error}"
        raise TemplateFault(_fault(text, path, error, what, context)) from None
    except MemoryError:
        raise TemplateFault(f"{path}:1:1: it needs more than {MEMORY >> 20} MiB") from None


def _what_is_missing(holder: Any, name: str) -> str:
    """What the value is that was asked, and what it has."""
    from jinja2.utils import missing

    if holder is missing:
        return f"'{name}' means nothing here"
    if isinstance(holder, dict):
        return f"'{name}' is not part of this value, which has: {', '.join(map(str, holder))}"
    if isinstance(holder, (list, tuple)):
        return f"'{name}' is not part of this value, which is a list of {len(holder)}"
    kinds = {str: "a text", bool: "a yes or no", int: "a number", float: "a number"}
    kind = "nothing (it is not set)" if holder is None else kinds.get(type(holder), "one value")
    return f"'{name}' is not part of this value, which is {kind} and has no parts"


def _fault(text: str, path: Path, error: BaseException, what: str, context: dict[str, Any]) -> str:
    line = _line(error)
    name = what.partition("'")[2].partition("'")[0]
    lines = text.splitlines()
    source = lines[line - 1] if line <= len(lines) else ""
    column = source.find(name) + 1 if name and name in source else 1
    known = ", ".join(sorted(context))
    cure = f"Names at the top are: {known}" if "means nothing" in what else "Correct this line"
    return f"{path}:{line}:{column}: {what}. {cure}"


def _line(error: BaseException) -> int:
    """The template's line that was being rendered: the innermost frame that is not Python's."""
    found, trace = 1, error.__traceback__
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            found = trace.tb_lineno
        trace = trace.tb_next
    return found
