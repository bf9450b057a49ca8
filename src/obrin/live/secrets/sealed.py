"""Keys sealed with a passphrase: scrypt (RFC 7914) makes a key of it, AES-256-GCM seals.

    {"sealed": 1, "scrypt": {"salt": .., "n": .., "r": .., "p": ..}, "nonce": .., "data": ..}

Everything but the data is bound to it as additional data, so nothing can be exchanged unnoticed.
"""

from __future__ import annotations

import base64
import functools
import json
from collections.abc import Callable
from typing import Any

from obrin.core.json_text import Json

COST, BLOCK, PARALLEL = 1 << 15, 8, 1
MOST_COST = 1 << 20
"""A file that asks for more is hostile: it would only burn memory."""


class SealError(Exception):
    """The passphrase does not fit, or the file was changed; which of the two cannot be known."""


def is_sealed(data: Any) -> bool:
    return isinstance(data, dict) and "sealed" in data


def seal(text: str, passphrase: str, rng: Callable[[int], bytes]) -> Json:
    """A fresh salt and nonce every time."""
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM

    salt, nonce = rng(16), rng(12)
    head: Json = {
        "sealed": 1,
        "scrypt": {"salt": _text(salt), "n": COST, "r": BLOCK, "p": PARALLEL},
        "nonce": _text(nonce),
    }
    key = _derive(passphrase, salt, COST, BLOCK, PARALLEL)
    return head | {"data": _text(AESGCM(key).encrypt(nonce, text.encode(), _bound(head)))}


def unseal(data: Json, passphrase: str) -> str:
    """Raises SealError."""
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM

    try:
        given = data["scrypt"]
        n, r, p = (int(given[name]) for name in ("n", "r", "p"))
        if data["sealed"] != 1 or not (2 <= n <= MOST_COST and 1 <= r <= 16 and 1 <= p <= 4):
            raise SealError("it is sealed in a way that is not known here")
        key = _derive(passphrase, _bytes(given["salt"]), n, r, p)
        head = {name: data[name] for name in ("sealed", "scrypt", "nonce")}
        return (
            AESGCM(key).decrypt(_bytes(data["nonce"]), _bytes(data["data"]), _bound(head)).decode()
        )
    except InvalidTag:
        raise SealError("the passphrase does not fit, or the file was changed") from None
    except (KeyError, TypeError, ValueError):
        raise SealError("it is damaged") from None


@functools.lru_cache(maxsize=4)
def _derive(passphrase: str, salt: bytes, n: int, r: int, p: int) -> bytes:
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    return Scrypt(salt=salt, length=32, n=n, r=r, p=p).derive(passphrase.encode())


def _bound(head: Json) -> bytes:
    return json.dumps(head, sort_keys=True).encode()


def _text(data: bytes) -> str:
    return base64.b64encode(data).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text, validate=True)
