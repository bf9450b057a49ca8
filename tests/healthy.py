"""Designs that nothing is wrong with, of many shapes, drawn from a number.

What a competent engineer would build: two ways everywhere, devices that can do what is asked of
them, ranges that do not meet. `check` has nothing to say of them but notes.
"""

from __future__ import annotations

import random
from typing import Any

import yaml

Json = dict[str, Any]
PROVIDERS = ("north-fibre", "bay-radio", "sea-cable", "hill-copper")
# Devices that can do BGP and tunnel interfaces; that can do certificates; by policy only.
ROUTERS = ("modern-router", "tunnel-firewall", "general-host", None)
BY_POLICY = ("policy-device",)


class Healthy:
    """One design. `shape` says what it was drawn to have, for messages of tests."""

    def __init__(self, seed: int) -> None:
        self._random = random.Random(seed)
        self._publics = (f"{net}.{n}" for net in ("192.0.2", "198.51.100") for n in range(10, 250))
        self.shape: list[str] = []
        self.data: Json = {"obrin": 1, "name": f"drawn-{seed}", "sites": {}, "clouds": {}}
        self.data["links"] = {}
        self._wishes: list[Json] = []
        self._build()

    def __str__(self) -> str:
        return yaml.safe_dump(self.data, sort_keys=False, default_flow_style=False, width=200)

    def _maybe(self, name: str, share: float) -> bool:
        chosen = self._random.random() < share
        if chosen:
            self.shape.append(name)
        return chosen

    def _beside(self, name: str, share: float) -> bool:
        """The same by a draw of its own, so that the rest of a seed's design stays as it is."""
        chosen = random.Random(f"{self.data['name']} {name}").random() < share
        if chosen:
            self.shape.append(name)
        return chosen

    def _build(self) -> None:
        self._whole()
        clouds = self._random.randint(1, 2)
        for number in range(clouds):
            self.data["clouds"][f"cloud-{number}"] = self._cloud(number)
        self._hub = clouds == 2 and self._maybe("hub", 0.4)
        if self._hub:
            self.data["clouds"]["hub"] = {"hub": {"members": ["cloud-0", "cloud-1"]}}
        for number in range(self._random.randint(1, 3)):
            self._site(number)
        if self._maybe("authority of its own", 0.2) and self._certified():
            self.data["authority"] = {"key": "rsa"}
        self.data["expectations"] = self._wishes

    def _certified(self) -> bool:
        links = self.data["links"].values()
        return any(link.get("authentication") == "certificate" for link in links)

    def _whole(self) -> None:
        """What belongs to the design as a whole."""
        data = self.data
        if self._maybe("dual", 0.15):
            data["stack"] = "dual"
        if self._maybe("pools", 0.3):
            data["pools"] = {
                "clouds": {"prefixes": "10.128.0.0/10", "for": "clouds"},
                "sites": {"prefixes": ["10.64.0.0/12", "10.80.0.0/12"], "for": "sites"},
                "inside": {"prefixes": "172.31.0.0/20", "for": "inside"},
            }
            if self._maybe("loopbacks", 0.5):
                data["pools"]["loops"] = {"prefixes": "10.255.255.0/24", "for": "loopbacks"}
        if self._maybe("as-numbers", 0.2):
            own = (
                ["400100-400110"] if self._maybe("AS numbers of its own", 0.4) else ["65100-65200"]
            )
            data["as-numbers"] = {"sites": own, "clouds": ["4200000000-4200000099"]}
        if self._maybe("/31", 0.2):
            data["inside"] = {"length": 31}
        self._guests = "192.168.50.0/24" if self._maybe("guests alike at all sites", 0.2) else None
        if self._maybe("elsewhere", 0.3):
            data["elsewhere"] = {"partner": {"prefix": "10.250.0.0/16", "owner": "a partner"}}
            if self._guests:
                data["elsewhere"]["visitors"] = {"prefix": self._guests, "place": "a partner"}
        if self._maybe("roles", 0.3):
            data["roles"] = {"desks": {"hosts": 200}, "apps": {"length": 25}}

    def _cloud(self, number: int) -> Json:
        cloud: Json = {"region": f"region-{number}", "subnets": {"web": {"hosts": 60}}}
        if "roles" in self.data:
            cloud["subnets"]["apps"] = {"role": "apps"}
        if self._maybe("given space", 0.3):
            cloud["space"] = [f"10.{200 + number}.0.0/20"]
        if self._maybe("growth", 0.2):
            cloud["growth"] = "1 doubling"
        if self._maybe("table", 0.2):
            cloud["tables"] = {"t": {"routes": {"192.168.99.0/24": "nowhere"}}}
            cloud["subnets"]["web"]["table"] = "t"
        if self._maybe("zones", 0.2):
            cloud["gateway"] = {"zones": ["a", "b"]}
        if self._maybe("throughput", 0.3):
            cloud.setdefault("gateway", {})["throughput"] = "400 Mbit/s"
        if self._beside(f"gives {number}", 0.2):
            cloud.setdefault("gateway", {})["assigns"] = ["addresses", "peers"]
        return cloud

    def _site(self, number: int) -> None:
        name = f"site-{number}"
        by_policy = self._maybe("by policy", 0.15)
        kinds = BY_POLICY if by_policy else ROUTERS
        count = self._random.choice((1, 2))
        providers = self._random.sample(PROVIDERS, 2)
        lines = [providers] if count == 1 else [[one] for one in providers]
        gateways = {f"{name}-gw{n}": self._gateway(kinds, own) for n, own in enumerate(lines)}
        site: Json = {"networks": self._networks(number), "gateways": gateways}
        if count == 2 and not by_policy and self._maybe("internal BGP", 0.3):
            site["internal-bgp"] = True
            for place, gateway in enumerate(gateways.values(), 2 * number + 1):
                gateway["loopback"] = f"10.255.254.{place}"
        self.data["sites"][name] = site
        ends = [(g, u) for g, gateway in gateways.items() for u in gateway["uplinks"]]
        targets = ["hub"] if self._hub else [f"cloud-{self._random.randrange(self._clouds)}"]
        if self._clouds == 2 and not self._hub and self._maybe("two clouds", 0.4):
            targets = ["cloud-0", "cloud-1"]
        apart = count == 2 and self._maybe("a link for each gateway", 0.3)
        for target in targets:
            if apart:
                self._link(name, target, [ends[0], ends[0]], by_policy=by_policy)
                first = self.data["links"][f"{name}-{target}"]
                ways = {t: {**first["tunnels"][t], **self._at(ends[1])} for t in first["tunnels"]}
                self._let_in(name, ways)
                self.data["links"][f"{name}-{target}-too"] = {**first, "tunnels": ways}
            else:
                self._link(name, target, ends, by_policy=by_policy)
        if self._hub and not by_policy and self._maybe("circuit", 0.5):
            gateway = next(iter(gateways))
            circuit = {"site": name, "gateway": gateway, "cloud": "hub", "provider": "own-line"}
            circuit["routing"] = self.data["links"][f"{name}-hub"].get("routing", "bgp")
            if circuit["routing"] == "static":
                circuit["bfd"] = {}
            circuit["networks"] = ["desks"]
            self.data.setdefault("circuits", {})[f"line-{number}"] = circuit
            if self._maybe("circuit first", 0.6):
                site["prefer"] = [f"line-{number}"]

    def _let_in(self, site: str, tunnels: Json) -> None:
        """What the cloud starts has to get through a translator."""
        gateways = self.data["sites"][site]["gateways"]
        for tunnel in tunnels.values():
            uplink = gateways[tunnel["gateway"]]["uplinks"][tunnel["uplink"]]
            if "inside" in uplink and "initiator" in tunnel:
                uplink["forwards"] = True

    def _at(self, end: tuple[str, str]) -> Json:
        return {"gateway": end[0], "uplink": end[1]}

    @property
    def _clouds(self) -> int:
        return sum(1 for name in self.data["clouds"] if name != "hub")

    def _networks(self, number: int) -> Json:
        networks: Json = {"desks": f"10.{20 + number}.0.0/22"}
        if "roles" in self.data and self._maybe("network of a role", 0.4):
            networks["desks"] = {"role": "desks"}
        if self._maybe("guests", 0.5):
            networks["guests"] = self._guests or f"10.{20 + number}.8.0/24"
        if isinstance(networks["desks"], str) and self._maybe("an inner router", 0.15):
            router = f"10.{20 + number}.0.250"
            networks["yard"] = {"prefix": f"10.{20 + number}.12.0/24", "behind": router}
            if "stack" in self.data:
                six = f"2001:db8:{20 + number}::"
                networks["desks"] = {"prefix": networks["desks"], "prefix6": f"{six}/64"}
                networks["yard"]["behind6"] = f"{six}250"
        return networks

    def _gateway(self, kinds: tuple[str | None, ...], providers: list[str]) -> Json:
        uplinks = {}
        for n, provider in enumerate(providers):
            uplinks[f"line{n}"] = uplink = {"address": next(self._publics), "provider": provider}
            if self._maybe("behind a translator", 0.15):
                uplink["inside"] = f"192.168.{self._random.randrange(200)}.2"
            if self._maybe("small packets", 0.15):
                uplink["mtu"] = 1492
        gateway: Json = {"uplinks": uplinks}
        if kinds == ROUTERS and self._maybe("offers", 0.15):
            gateway["offers"] = ["high", "wide"]
        kind = self._random.choice(kinds)
        if kind is not None:
            gateway["profile"] = kind
        return gateway

    def _link(self, site: str, cloud: str, ends: list[tuple[str, str]], *, by_policy: bool) -> None:
        link: Json = {"site": site, "cloud": cloud}
        entry = self.data["sites"][site]
        guests = "guests" in entry["networks"]
        if guests:
            link["networks"] = ["desks"]
        if by_policy or self._maybe("static", 0.25):
            link["routing"] = "static"
        else:
            link["bgp"] = {"hold-time": self._random.choice(("6 s", "30 s"))}
        profiles = {gateway.get("profile") for gateway in entry["gateways"].values()}
        if not by_policy and None not in profiles and self._maybe("certificates", 0.2):
            link["authentication"] = "certificate"
        if self._maybe("always encapsulated", 0.1):
            link["encapsulation"] = "always"
        if self._maybe("slow to ask", 0.1):
            link["liveness"] = {"delay": "20 s"}
        if not by_policy and not self._hub and self._maybe("seen as another", 0.15):
            link["seen-as"] = {"desks": None}
        if not by_policy and not self._hub and self._maybe("the cloud as another", 0.1):
            link["cloud-seen-as"] = None
        given = isinstance(entry["networks"]["desks"], str) and "seen-as" not in link
        if given and not self._hub and self._maybe("a network in two parts", 0.1):
            low, high = (
                entry["networks"]["desks"],
                entry["networks"]["desks"].replace(".0.0/", ".2.0/"),
            )
            link["only"] = {"desks": [low.replace("/22", "/23"), high.replace("/22", "/23")]}
        if not by_policy and self._maybe("a suite", 0.15):
            link["suite"] = "high" if "tunnel-firewall" not in profiles else None
        link["tunnels"] = {
            f"t{n}": {"gateway": gateway, "uplink": uplink, "instance": 1 + n % 2}
            for n, (gateway, uplink) in enumerate(ends[:2])
        }
        if self._maybe("the site first inside", 0.1):
            for tunnel in link["tunnels"].values():
                tunnel["inside-first"] = "site"
        if not by_policy and self._maybe("started by the cloud", 0.1):
            for tunnel in link["tunnels"].values():
                tunnel["initiator"] = "cloud"
            self._let_in(site, link["tunnels"])
        if not by_policy and len(entry["gateways"]) == 1 and self._maybe("shared", 0.2):
            for tunnel in link["tunnels"].values():
                tunnel["role"] = "shared"
        if "bgp" in link and self._maybe("marked", 0.1):
            link["bgp"]["communities"] = ["no-export"]
        if "bgp" in link and self._maybe("summaries by themselves", 0.2):
            link["bgp"] |= {"summaries": "auto", "cloud-summaries": "auto"}
        if "bgp" in link and self._maybe("sessions with a password", 0.2):
            link["bgp"]["password"] = True
        self.data["links"][f"{site}-{cloud}"] = link
        for target in ("cloud-0", "cloud-1") if cloud == "hub" else (cloud,):
            self._wish(f"{site}/desks", f"{target}/web", "tcp/443")
            if self._maybe("back", 0.3):
                self._wish(f"{target}/web", f"{site}/desks", "tcp/9100-9110")
            if self._maybe("loads", 0.2):
                self._wish(f"{site}/desks", f"{target}/web", "udp/5000", load="20 Mbit/s")
            if given and "only" not in link and self._maybe("one host", 0.15):
                host = entry["networks"]["desks"].replace(".0.0/22", ".1.7")
                self._wish(f"{site}/desks/{host}", f"{target}/web", "tcp/22")
            if guests:
                self._wish(f"{site}/guests", f"{target}/web", "tcp/443", must="not")

    def _wish(self, source: str, target: str, flow: str, **more: Any) -> None:
        self._wishes.append({"from": source, "to": target, "flow": flow, **more})
