"""Designs drawn at random that the practice world can build, in every mix of the two families."""

from __future__ import annotations

import random
from typing import Any

import yaml

Json = dict[str, Any]
SIGNATURES = ("tcp-md5", "hmac-sha-1-96", "aes-128-cmac-96")
STACKS = ("ipv4", "dual", "dual", "ipv6", "ipv6")


class Drawn:
    """`data` is a design with one cloud and up to three sites of one gateway each; `widely`, its
    filters let everything pass."""

    def __init__(self, seed: int, *, widely: bool = False) -> None:
        self._random = random.Random(seed)
        self.stack = self._random.choice(STACKS)
        self.data: Json = {
            "obrin": 1,
            "name": f"drawn-{seed}",
            "stack": self.stack,
            "ula": "fd00:1:2::/48",
            "sites": {},
            "clouds": {"apps": {"subnets": {"web": {"hosts": 60}, "store": {"hosts": 20}}}},
            "links": {},
            "expectations": [],
        }
        if self._maybe(0.3):
            self.data["inside"] = {"length": 31, "length6": 126}
        if self.stack == "ipv4":
            del self.data["ula"]
        self._subnets()
        for number in range(self._random.randint(1, 2)):
            self._site(number)
        for name in self.data["sites"] if widely else ():
            self._let_all_pass(name)

    def _let_all_pass(self, site: str) -> None:
        """By the gateway's filter and the cloud's."""
        rules = [
            {"allow": "any", "from": site, "to": "apps"},
            {"allow": "any", "from": "apps", "to": site},
        ]
        self.data["clouds"]["apps"].setdefault("filters", []).extend(rules)
        for box in self.data["sites"][site]["gateways"].values():
            box["filters"] = rules

    @property
    def text(self) -> str:
        return yaml.safe_dump(self.data, sort_keys=False)

    def _maybe(self, chance: float) -> bool:
        return self._random.random() < chance

    def _subnets(self) -> None:
        """Hosts with firewalls, and a route table of its own that leads to the gateway."""
        subnets = self.data["clouds"]["apps"]["subnets"]
        if self._maybe(0.3):
            subnets["web"]["hosts-accept"] = ["tcp/443", "icmp", "udp/53"]
        if self._maybe(0.3):
            subnets["store"]["hosts-accept"] = [{"allow": "tcp/80-90", "from": "site-0"}]
        if self._maybe(0.2) and self.stack != "ipv6":
            routes = {"0.0.0.0/0": "gateway", "10.20.8.0/24": "nowhere"}
            if self.stack == "dual":
                routes["::/0"] = "gateway"
            table = {"propagation": self._maybe(0.5), "routes": routes}
            self.data["clouds"]["apps"]["tables"] = {"own": table}
            subnets["web"]["table"] = "own"

    def _uplink(self, number: int, line: int) -> Json:
        six = self._maybe(0.4)
        uplink: Json = {
            "address": f"2001:db8:{number + 1}:{line}::10"
            if six
            else f"192.0.2.{10 * number + line + 1}",
            "provider": ("one", "two", "three")[line],
        }
        if self._maybe(0.2):
            uplink["inside"] = f"fd99:0:0:{line}::2" if six else f"192.168.{line}.2"
        return uplink

    def _ends(self, number: int, link: Json) -> None:
        """Sessions beyond the tunnels, at one end or both, as far as they stay apart."""
        box = self.data["sites"][f"site-{number}"]["gateways"][f"box-{number}"]
        instances = [tunnel["instance"] for tunnel in link["tunnels"].values()]
        if len(set(instances)) < len(instances):
            # One host route cannot lead through two tunnels, but for one session over both.
            if self.stack == "ipv4" and self._maybe(0.6):
                box["loopback"] = f"10.250.0.{number + 1}"
                link["bgp"] |= {"site-end": "loopback", "cloud-end": "gateway-subnet"}
                link["bgp"]["hold-time"] = "30 s"  # it outlives the tunnel that dies
            return
        if self.stack == "dual" and self._maybe(0.4):
            link["bgp"]["sessions"] = "each"
            return
        if self.stack != "ipv6" and self._maybe(0.5):
            box["loopback"] = f"10.250.0.{number + 1}"
            link["bgp"]["site-end"] = "loopback"
        if self._maybe(0.5):
            link["bgp"]["cloud-end"] = "gateway-subnet"

    def _site(self, number: int) -> None:
        name, box = f"site-{number}", f"box-{number}"
        uplinks = {f"line{n}": self._uplink(number, n) for n in range(self._random.randint(1, 3))}
        networks = {"desks": f"10.{20 + number}.0.0/22", "guests": f"10.{20 + number}.8.0/24"}
        if self.stack == "ipv6":
            networks = dict.fromkeys(networks)
        elif self._maybe(0.3):
            networks["guests"] = {
                "prefix": networks["guests"],
                "hosts-accept": [{"allow": "any", "from": "apps/web"}],
            }
        self.data["sites"][name] = {"networks": networks, "gateways": {box: {"uplinks": uplinks}}}
        tunnels: Json = {}
        for line in uplinks:
            tunnels[f"t-{line}"] = {
                "gateway": box,
                "uplink": line,
                "instance": self._random.randint(1, 2),
            }
        shared = len(tunnels) > 1 and self._maybe(0.3)
        for tunnel in list(tunnels.values())[:2] if shared else ():
            tunnel["role"] = "shared"
        link: Json = {"site": name, "cloud": "apps", "tunnels": tunnels}
        link["liveness"] = {"delay": "2 s", "wait": "500 ms", "tries": 3}
        if self._maybe(0.3):
            link["bfd"] = {"interval": "300 ms", "multiplier": 3}
        link["routing"] = self._random.choice(("bgp", "bgp", "static"))
        if link["routing"] == "static" and self._maybe(0.4):
            link["selection"] = "policy"
            link.pop("bfd", None)  # no policy takes what runs between the addresses inside
            link["child-sas"] = self._random.choice(("one", "each-pair"))
        if link["routing"] == "bgp":
            link["bgp"] = {"hold-time": "6 s"}
            if self._maybe(0.3):
                link["bgp"]["password"] = True
                link["bgp"]["signature"] = self._random.choice(SIGNATURES)
            link["bgp"]["med"] = self._maybe(0.3)
            self._ends(number, link)
        if self._maybe(0.3):
            link["networks"] = ["desks"]
        if self.stack != "ipv6" and self._maybe(0.2):
            link["seen-as"] = {"desks": f"10.{120 + number}.0.0/22"}
        if self.stack != "ipv4" and self._maybe(0.3):
            link["seen-as6"] = {"desks": f"2001:db8:{120 + number}:1::/64"}
        self.data["links"][f"{name}-apps"] = link
        desks, web = f"{name}/desks", "apps/web"
        self.data["expectations"] += [
            {"from": desks, "to": web, "flow": self._random.choice(("tcp/443", "icmp", "udp/53"))},
            {"from": "apps/store", "to": desks, "flow": "icmp"},
            {"from": f"{name}/guests", "to": web, "flow": "tcp/443", "must": "not"},
        ]
