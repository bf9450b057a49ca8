"""Which driver serves which place: a file beside the design, `DESIGN.places.yaml`.

    clouds:
      timetable: {driver: practice, url: "http://127.0.0.1:8080", token-variable: CLOUD_TOKEN}
    gateways:
      hh-east: {driver: restconf, url: "https://192.0.2.10", token-file: hh-east.token,
                authority: devices.pem}
      hh-west: {driver: by-hand, by: the branch's electrician,
                observe: {driver: snmp, url: "snmp://monitor@192.0.2.11", token-file: hh-west.snmp}}
      quay-gw: {driver: mine, options: {port: ttyS0}}

Whatever is not in it is of the practice world. The drivers that ship with Obrin need a url and a
token; what another needs is its own affair.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from obrin.core.errors import ObrinError, OutsideError
from obrin.core.text import clean
from obrin.live.files import read_file

MOST_BYTES = 1 << 20
BY_HAND = "by-hand"
ROOT = "/restconf"
OVER_A_NETWORK = frozenset({"practice", "restconf", "snmp"})
"""Drivers that ship with Obrin and need a url and a token."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """How something is reached; `url` and `token` are empty where the file gives none. `token` is
    never printed: it is a password where there is a `user` (Basic, RFC 7617), else a bearer token
    (RFC 6750). `authority` is a file of PEM certificates to believe instead of the usual ones;
    `speed` is the practice world's; `hash` is what SNMPv3 authenticates with; `root` is the root
    resource of RESTCONF (RFC 8040 section 3.1); `options` are the driver's own."""

    name: str
    url: str
    token: str = field(repr=False)
    authority: str | None = None
    speed: float = 1.0
    hash: str = "sha-256"
    user: str = ""
    root: str = ROOT
    options: Mapping[str, str | int | float | bool] = field(default_factory=dict)


class Reached(BaseModel):
    """How a place is spoken to, and where its token is."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    driver: str = Field(min_length=1, max_length=64)
    url: str | None = Field(None, pattern=r"^(https?|snmp)://[^\s]+$", max_length=500)
    token_variable: str | None = Field(None, alias="token-variable")
    token_file: str | None = Field(None, alias="token-file")
    authority: str | None = None
    hash: Literal["sha-1", "sha-256", "sha-384", "sha-512"] = "sha-256"
    user: str = Field("", max_length=200, pattern=r"^[^:\x00-\x1f]*$")
    root: str = Field(ROOT, pattern=r"^(/[A-Za-z0-9._~-]+)+$", max_length=200)
    options: dict[str, str | int | float | bool] = Field(default_factory=dict)

    def need_a_door(self) -> None:
        """Raises ValueError."""
        if self.token_variable is not None and self.token_file is not None:
            raise ValueError("give either token-variable or token-file, not both")
        if self.driver not in OVER_A_NETWORK:
            return
        if self.options:
            raise ValueError(f"the driver {self.driver} has no options")
        if self.url is None:
            raise ValueError("give its url")
        if self.token_variable is None and self.token_file is None:
            raise ValueError("give either token-variable or token-file")

    def place(self, name: str, folder: Path) -> Place:
        """`folder` is the design's. Raises ObrinError where the token is not there."""
        authority = None if self.authority is None else str(folder / self.authority)
        given = self.token_variable is not None or self.token_file is not None
        token = self._token(name, folder) if given else ""
        if given and (not token or not all(line.isprintable() for line in token.split("\n"))):
            raise ObrinError(
                f"the token of {name} is empty, or has characters that cannot be printed. Write it "
                "anew"
            )
        return Place(
            name=name,
            url=self.url or "",
            token=token,
            authority=authority,
            hash=self.hash,
            user=self.user,
            root=self.root,
            options=self.options,
        )

    def _token(self, name: str, folder: Path) -> str:
        if self.token_variable is not None:
            found = os.environ.get(self.token_variable, "")
            if not found:
                raise ObrinError(
                    f"the token of {name} is not there. Set the variable {self.token_variable}"
                )
            return found
        path = folder / str(self.token_file)
        try:
            return read_file(path, MOST_BYTES).decode("utf-8").strip()
        except FileNotFoundError:
            raise ObrinError(f"the token of {name} is not there. Put it into {path}") from None
        except (UnicodeDecodeError, OutsideError) as error:
            raise ObrinError(f"the token of {name}, {path}: {error}. Check the file") from None


class ObserveSpec(Reached):
    """How the tables of a device are read, whoever configures it."""

    @model_validator(mode="after")
    def _whole(self) -> ObserveSpec:
        self.need_a_door()
        return self


class PlaceSpec(Reached):
    """One entry of the file."""

    by: str | None = Field(None, min_length=1, max_length=200)
    observe: ObserveSpec | None = None

    @model_validator(mode="after")
    def _one_token(self) -> PlaceSpec:
        if self.driver != BY_HAND:
            if self.by is not None or self.observe is not None:
                raise ValueError("'by' and 'observe' go with the driver by-hand")
            self.need_a_door()
        elif (self.url, self.token_variable, self.token_file, self.authority) != (None,) * 4 or (
            self.user or self.options
        ):
            raise ValueError("whoever does it by hand needs no url and no token; say 'by' whom")
        return self


class Places(BaseModel):
    """The file."""

    model_config = ConfigDict(extra="forbid")

    clouds: dict[str, PlaceSpec] = Field(default_factory=dict)
    gateways: dict[str, PlaceSpec] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _observed(self) -> Places:
        for name, spec in self.clouds.items():
            if spec.observe is not None:
                raise ValueError(f"'observe' is for gateways, and {name} is a cloud")
        return self


def read_places(path: Path) -> Places:
    """Nothing where there is no such file. Raises ObrinError with the key and what is wrong."""
    import yaml

    try:
        data = yaml.safe_load(read_file(path, MOST_BYTES).decode("utf-8"))
        return Places.model_validate(data or {})
    except FileNotFoundError:
        return Places()
    except (UnicodeDecodeError, OutsideError) as error:
        raise ObrinError(f"{path.name}: {error}. Check the file") from None
    except (yaml.YAMLError, RecursionError) as error:
        where = getattr(error, "problem_mark", None)
        line = "" if where is None else f":{where.line + 1}:{where.column + 1}"
        raise ObrinError(
            f"{path.name}{line}: it is not YAML. Check the quotes and indents"
        ) from None
    except ValidationError as error:  # a ValueError, too
        first = error.errors()[0]
        key = ".".join(map(str, first["loc"])) or "the file"
        raise ObrinError(f"{path.name}: {key}: {first['msg']}. Mend the entry") from None
    except ValueError as error:  # a number of more digits than Python converts, for one
        raise ObrinError(f"{path.name}: {clean(str(error), 200)}. Mend the file") from None
