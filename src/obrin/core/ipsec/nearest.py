"""What a device has of a suite that it cannot do whole.

Whoever configures it enters what it takes; where it does not know a value, what stands there is
the first that it does know. So the ends part where the first such value counts, and nowhere else.
"""

from __future__ import annotations

from dataclasses import replace

from obrin.core.ipsec.profile import Algorithms, Profile
from obrin.core.ipsec.registry import ALGORITHMS, Algorithm
from obrin.core.ipsec.suite import Suite

_USUAL_INTEGRITY = next(a for a in ALGORITHMS if a.name == "HMAC-SHA2-256-128")


def nearest(suite: Suite, profile: Profile) -> Suite:
    """The suite itself where the profile can do all of it. Lifetimes stay: nobody negotiates."""
    ike, esp, able = suite.ike, suite.esp, profile
    encryption = _near(ike.encryption, able.ike.encryption)
    cipher = _near(esp.encryption, able.esp.encryption)
    return replace(
        suite,
        name=suite.name if profile.can(suite) else f"what {profile.name} has of {suite.name}",
        ike=replace(
            ike,
            encryption=encryption,
            integrity=_integrity(encryption, ike.integrity, able.ike.integrity),
            prf=_near(ike.prf, able.ike.prf),
            group=_near(ike.group, able.ike.groups),
        ),
        esp=replace(
            esp,
            encryption=cipher,
            integrity=_integrity(cipher, esp.integrity, able.esp.integrity),
            group=_pfs(suite, able),
            esn=esp.esn if able.esn is None or esp.esn in able.esn else able.esn[0],
        ),
        ike_version=_version(suite, able),
    )


def _near(wanted: Algorithm, able: Algorithms) -> Algorithm:
    return wanted if not able or wanted in able else able[0]


def _integrity(cipher: Algorithm, wanted: Algorithm | None, able: Algorithms) -> Algorithm | None:
    """Return None with a combined-mode cipher."""
    return None if cipher.combined else _near(wanted or _USUAL_INTEGRITY, able)


def _pfs(suite: Suite, able: Profile) -> Algorithm | None:
    wanted = suite.esp.group
    if able.pfs == "never":
        return None
    if wanted is None:
        return suite.ike.group if able.pfs == "required" else None
    return _near(wanted, able.esp.groups)


def _version(suite: Suite, able: Profile) -> int:
    if not able.versions or suite.ike_version in able.versions:
        return suite.ike_version
    return able.versions[0]
