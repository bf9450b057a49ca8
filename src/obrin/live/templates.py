"""A user's own Jinja2 template, rendered from the documented context; a hole is an error."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from obrin.core.errors import ObrinError


class TemplateFault(ObrinError):
    """A template that cannot be rendered; the text says where, what and how to put it right."""


def render_template(text: str, path: Path, context: dict[str, Any]) -> str:
    """Raises TemplateFault with file and line. Templates cannot reach Python's insides."""
    import jinja2
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    environment = ImmutableSandboxedEnvironment(
        undefined=jinja2.StrictUndefined, keep_trailing_newline=True, trim_blocks=True,
        lstrip_blocks=True, autoescape=False,
    )  # fmt: skip
    try:
        template = environment.from_string(text)
        return template.render(context)
    except jinja2.TemplateSyntaxError as error:
        where = f"{path}:{error.lineno}:1"
        raise TemplateFault(f"{where}: {error.message}. Correct the template") from None
    except jinja2.UndefinedError as error:
        known = ", ".join(sorted(context))
        what = f"{path}:{_line(error)}:1: {error.message}"
        raise TemplateFault(f"{what}. Names at the top are: {known}") from None
    except (jinja2.TemplateError, ArithmeticError, TypeError, ValueError, LookupError) as error:
        raise TemplateFault(f"{path}:{_line(error)}:1: {error}. Correct the template") from None


def _line(error: BaseException) -> int:
    """The template's line that was being rendered: the innermost frame that is not Python's."""
    found, trace = 1, error.__traceback__
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            found = trace.tb_lineno
        trace = trace.tb_next
    return found
