"""Pages made of our own Markdown say what a renderer of all Markdown makes of it."""

from __future__ import annotations

import html
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from obrin.core.handover.pack import gateways_of, make_pack
from obrin.core.handover.secrets import Secrets
from obrin.core.handover.sheet.page import as_html
from tests.doubles import settled_of
from tests.live.buildable import Drawn
from tests.live.virtual_world import certificates_of, keys_of

RENDERER = MarkdownIt("commonmark", {"html": False}).enable("table")


def told(page: str) -> list[str]:
    """Tags in order, and the words between them."""
    page = re.sub(r"<br ?/?>|</?p>|style=\"[^\"]*\"", " ", page)
    return html.unescape(re.sub(r"(<[^<>]*>)", r" \1 ", page)).split()


@pytest.mark.parametrize("seed", range(24))
def test_sheets_steps_and_mirrors_of_drawn_designs(seed: int) -> None:
    settled = settled_of(Drawn(seed).text)
    secrets = Secrets(keys_of(settled), certificates_of(settled))
    for place in gateways_of(settled):
        pack = make_pack(settled, place, secrets)
        for text in (pack.sheet, pack.steps, pack.mirror, *(pack.services or ())[:1]):
            assert told(as_html(text)) == told(RENDERER.render(text)), place


@given(st.text("ab*`|<&\\ #1.-\n", max_size=60))
def test_nothing_that_is_written_becomes_a_tag(text: str) -> None:
    page = as_html(text)
    known = r"</?(h[1-6]|p|table|thead|tbody|tr|t[hd]|ol|li|strong|em|code)>|<br>"
    assert "<" not in re.sub(known, "", page)
