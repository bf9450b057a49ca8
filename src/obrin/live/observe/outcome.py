"""What came of trying an expectation on the live link."""

from __future__ import annotations

from dataclasses import dataclass

from obrin.core.json_text import Json
from obrin.core.known import NotKnown, Verdict, known
from obrin.core.settled.expected import Expected

ANSWERED, REFUSED, NO_ANSWER, NOT_TRIED = "answered", "refused", "no answer", "not tried"


@dataclass(frozen=True, slots=True)
class Outcome:
    """`seen` is one of the words above; `dropped` names the place and reason of who says that it
    dropped it, `unasked` who could not be asked for that. `tunnels` is what the tunnels between
    its places had meanwhile. `kept_out` is the verdict for what must not work."""

    expectation: Expected
    seen: str
    seconds: float
    dropped: str = ""
    problem: str = ""
    unasked: str = ""
    tunnels: tuple[str, ...] = ()
    kept_out: Verdict = NotKnown("it was not judged")  # noqa: RUF009 - it is frozen

    @property
    def verdict(self) -> Verdict:
        """Whether it is as wished."""
        if self.problem:
            return NotKnown(self.problem)
        if self.expectation.must == "work":
            return self.seen == ANSWERED
        return self.kept_out

    @property
    def met(self) -> bool:
        """Whether it is as wished for certain."""
        return self.verdict is True

    @property
    def why(self) -> str:
        """What is known of the reason, in words; empty where there is nothing to say."""
        if isinstance(self.verdict, NotKnown):
            return self.verdict.why
        if self.expectation.must != "work" and self.verdict is False and self.seen == REFUSED:
            return "it gets to the host, which refuses it itself: nothing on the way keeps it out"
        if self.seen == NO_ANSWER and not self.dropped and self.expectation.must == "work":
            whom = f"; {self.unasked}" if self.unasked else ""
            return f"no device says that it dropped it: lost on the way, or no host answers{whom}"
        return self.dropped

    def as_json(self) -> Json:
        return {
            "from": str(self.expectation.source),
            "to": str(self.expectation.destination),
            "flow": str(self.expectation.flow),
            "family": self.expectation.family.lower(),
            "must": self.expectation.must,
            "seen": self.seen,
            "met": known(self.verdict, None),
            "seconds": self.seconds,
            "dropped": self.dropped,
            "problem": self.problem,
            "why": self.why,
            "tunnels": list(self.tunnels),
        }
