"""Generic device profiles: kinds of device, not models. Own ones are written in a design."""

from __future__ import annotations

from typing import Any

_GCM = ["AES-GCM-16-256", "AES-GCM-16-128"]
_CBC = ["AES-CBC-256", "AES-CBC-128"]
_SHA2 = ["HMAC-SHA2-256-128", "HMAC-SHA2-384-192", "HMAC-SHA2-512-256"]
_PRFS = ["PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA2-512"]
_CURVES = [19, 20, 21, 31]
_ALL_METHODS = ["pre-shared-key", "rsa", "ecdsa", "ed25519"]

SHIPPED_SPECS: dict[str, dict[str, Any]] = {
    "modern-router": {
        "about": "a router of recent years with tunnel interfaces and BGP",
        "ike": {
            "versions": [2, 1], "encryption": [*_GCM, *_CBC], "integrity": _SHA2, "prf": _PRFS,
            "groups": [*_CURVES, 14, 15, 16], "renewal": "rekey",
            "lifetime": {"least": "5 min", "most": "24 h", "usual": "24 h", "unit": "s",
                         "shown": True},
        },
        "esp": {
            "encryption": [*_GCM, *_CBC], "integrity": _SHA2, "groups": [*_CURVES, 14, 15, 16],
            "pfs": "optional", "esn": [True, False],
            "lifetime": {"least": "2 min", "most": "24 h", "usual": "1 h", "unit": "s",
                         "shown": True},
        },
        "authentication": _ALL_METHODS,
        "identities": ["address", "name", "distinguished-name"],
        "translators": True, "selection": ["interface", "policy"], "same-selectors": 1000,
        "tunnels": 1000, "throughput": "2 Gbit/s", "bgp": True, "bfd": True, "monitor": True,
        "keep-awake": True, "mss-clamping": True,
        "liveness": {"least-delay": "1 s", "most-delay": "1 h", "most-tries": 10},
        "key": {"least": 8, "most": 128, "letters": "printable"},
    },
    "tunnel-firewall": {
        "about": "a firewall with tunnel interfaces, zones and BGP",
        "ike": {
            "versions": [2, 1], "encryption": [*_GCM, *_CBC], "integrity": _SHA2, "prf": _PRFS,
            "groups": [14, 15, 16, 19, 20, 21], "renewal": "rekey",
            "lifetime": {"least": "3 min", "most": "48 h", "usual": "8 h", "unit": "h",
                         "shown": True},
        },
        "esp": {
            "encryption": [*_GCM, *_CBC], "integrity": _SHA2, "groups": [14, 15, 16, 19, 20, 21],
            "pfs": "optional", "esn": [False],
            "lifetime": {"least": "3 min", "most": "24 h", "usual": "1 h", "unit": "h",
                         "shown": True},
        },
        "authentication": ["pre-shared-key", "rsa", "ecdsa"],
        "identities": ["address", "name", "distinguished-name"],
        "translators": True, "selection": ["interface"], "same-selectors": 500,
        "tunnels": 500, "throughput": "1 Gbit/s", "bgp": True, "bfd": True, "monitor": True,
        "keep-awake": True, "mss-clamping": True,
        "liveness": {"least-delay": "2 s", "most-delay": "10 min", "most-tries": 10},
        "key": {"least": 6, "most": 64, "letters": "printable"},
    },
    "policy-device": {
        "about": "a device that leads traffic into tunnels by policy only",
        "ike": {
            "versions": [2, 1], "encryption": [*_CBC, "AES-GCM-16-256"],
            "integrity": ["HMAC-SHA2-256-128", "HMAC-SHA2-512-256", "HMAC-SHA1-96"],
            "prf": ["PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-512"], "groups": [14, 15, 19, 20],
            "renewal": "rekey",
            "lifetime": {"least": "2 min", "most": "24 h", "usual": "24 h", "unit": "s",
                         "shown": False},
        },
        "esp": {
            "encryption": [*_CBC, "AES-GCM-16-256"],
            "integrity": ["HMAC-SHA2-256-128", "HMAC-SHA1-96"], "groups": [14, 15, 19, 20],
            "pfs": "optional", "esn": [False],
            "lifetime": {"least": "2 min", "most": "24 h", "usual": "8 h", "unit": "s",
                         "shown": False},
        },
        "authentication": ["pre-shared-key", "rsa"],
        "identities": ["address", "name"],
        "translators": True, "selection": ["policy"], "same-selectors": 1,
        "tunnels": 100, "throughput": "400 Mbit/s", "bgp": False, "bfd": False, "monitor": False,
        "keep-awake": False, "mss-clamping": True,
        "liveness": {"least-delay": "10 s", "most-delay": "1 h", "most-tries": 5},
        "key": {"least": 8, "most": 64, "letters": "printable"},
    },
    "old-device": {
        "about": "a device past its maintenance: IKEv1, few algorithms, selects by policy",
        "ike": {
            "versions": [1], "encryption": ["AES-CBC-128", "3DES"],
            "integrity": ["HMAC-SHA1-96", "HMAC-MD5-96"], "prf": ["PRF-HMAC-SHA1", "PRF-HMAC-MD5"],
            "groups": [5, 2, 1], "renewal": "reauthenticate",
            "lifetime": {"least": "10 min", "most": "24 h", "usual": "24 h", "unit": "min",
                         "shown": False},
        },
        "esp": {
            "encryption": ["AES-CBC-128", "3DES"], "integrity": ["HMAC-SHA1-96", "HMAC-MD5-96"],
            "groups": [5, 2, 1], "pfs": "optional", "esn": [False],
            "lifetime": {"least": "10 min", "most": "24 h", "usual": "8 h", "unit": "min",
                         "shown": False},
        },
        "authentication": ["pre-shared-key"],
        "identities": ["own-address"],
        "translators": False, "selection": ["policy"], "same-selectors": 1,
        "tunnels": 10, "throughput": "50 Mbit/s", "bgp": False, "bfd": False, "monitor": False,
        "keep-awake": False, "mss-clamping": False,
        "liveness": {"least-delay": "10 s", "most-delay": "10 min", "most-tries": 3},
        "key": {"least": 4, "most": 32, "letters": "letters-and-digits"},
    },
    "branch-box": {
        "about": "a small box of a branch, mostly behind somebody else's translator",
        "ike": {
            "versions": [2], "encryption": ["AES-CBC-256", "AES-CBC-128"],
            "integrity": ["HMAC-SHA2-256-128"], "prf": ["PRF-HMAC-SHA2-256"], "groups": [14, 19],
            "renewal": "reauthenticate",
            "lifetime": {"least": "10 min", "most": "24 h", "usual": "8 h", "unit": "min",
                         "shown": True},
        },
        "esp": {
            "encryption": ["AES-CBC-256", "AES-CBC-128"], "integrity": ["HMAC-SHA2-256-128"],
            "groups": [14, 19], "pfs": "optional", "esn": [False],
            "lifetime": {"least": "10 min", "most": "24 h", "usual": "1 h", "unit": "min",
                         "shown": True},
        },
        "authentication": ["pre-shared-key"],
        "identities": ["own-address", "address", "name"],
        "translators": True, "selection": ["interface"], "same-selectors": 2,
        "tunnels": 5, "throughput": "100 Mbit/s", "bgp": False, "bfd": False, "monitor": True,
        "keep-awake": True, "mss-clamping": True,
        "liveness": {"least-delay": "5 s", "most-delay": "5 min", "most-tries": 5},
        "key": {"least": 8, "most": 63, "letters": "letters-and-digits"},
    },
    "general-host": {
        "about": "a general-purpose host that runs IPsec and BGP in software",
        "ike": {
            "versions": [2], "encryption": [*_GCM, "CHACHA20-POLY1305", *_CBC], "integrity": _SHA2,
            "prf": _PRFS, "groups": [31, 19, 20, 21, 14, 15, 16, 17, 18, 32], "renewal": "rekey",
            "lifetime": {"least": "1 min", "most": "7 d", "usual": "4 h", "unit": "s",
                         "shown": True},
        },
        "esp": {
            "encryption": [*_GCM, "CHACHA20-POLY1305", *_CBC], "integrity": _SHA2,
            "groups": [31, 19, 20, 21, 14, 15, 16, 17, 18, 32], "pfs": "optional",
            "esn": [True, False],
            "lifetime": {"least": "1 min", "most": "7 d", "usual": "1 h", "unit": "s",
                         "shown": True},
        },
        "authentication": _ALL_METHODS,
        "identities": ["address", "name", "distinguished-name"],
        "translators": True, "selection": ["interface", "policy"], "same-selectors": 10000,
        "tunnels": 10000, "throughput": "1 Gbit/s", "bgp": True, "bfd": True, "monitor": True,
        "keep-awake": True, "mss-clamping": True,
        "liveness": {"least-delay": "1 s", "most-delay": "24 h", "most-tries": 10},
        "key": {"least": 1, "most": 128, "letters": "printable"},
    },
}  # fmt: skip
