"""A change carried out in the practice world of virtual time."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from obrin.core.change.as_design import state
from obrin.core.change.outlook import UNPROMISED, Outlooks
from obrin.core.change.states import READY, Between, Done, Flow, Step
from obrin.core.handover.secrets import Secrets
from obrin.core.reach.paths import key_of
from obrin.core.settled.model import Settled
from obrin.live.drivers.practice_cloud.cloud_steps import cloud_steps, filter_step
from obrin.live.practice.cloud.names import cloud_name
from obrin.live.practice.internet.internet import Dedicated
from obrin.live.rehearse.virtual import kind_and_name
from obrin.live.reshape.work import At, cloud_work, gateway_work
from obrin.wire.host import Host, Query
from tests.live.virtual_world import VirtualWorld, certificates_of, keys_of


class Builder:
    """What a driver plans; doing it is the world's."""

    def steps(self, settled: Settled, clouds: Any, secrets: Secrets) -> list:
        return cloud_steps(settled, clouds, secrets)

    def filtered(self, settled: Settled, cloud: str, rules: Any) -> Any:
        return None if settled.clouds[cloud].is_hub else filter_step(cloud, rules)


class Reshaped:
    """A world that has the old design, and goes to the new one step by step."""

    def __init__(self, before: Settled, after: Settled) -> None:
        self.between = Between(before, after)
        self.looks = Outlooks(self.between)
        keys = {**keys_of(before), **keys_of(after)}
        self.secrets = Secrets(keys, {**certificates_of(before), **certificates_of(after)})
        ready = frozenset(s for s in self.between.steps if s.kind == READY)
        halfway = state(self.between, ready)
        sites = {**before.sites, **halfway.sites}
        gateways = {**before.gateways, **halfway.gateways}
        for name, old in before.gateways.items():
            gateways[name] = replace(gateways[name], asn=old.asn)
        clouds = {**halfway.clouds, **before.clouds}
        grounds = replace(before, sites=sites, gateways=gateways, clouds=clouds)
        self.world = VirtualWorld(grounds, keys, dict(self.secrets.certificates))
        for circuit in after.circuits.values():  # the lines lie there before anybody uses them
            self.world._circuits[circuit.label] = circuit
            self.world._line_of[cloud_name(circuit.label)] = circuit.label
            line = Dedicated(circuit.label, circuit.mtu)
            self.world.internet.dedicated.setdefault(circuit.label, line)
            for end, other in (line.ends, line.ends[::-1]):
                self.world.internet._across.setdefault(end, (line, other))
        clouds = list(dict.fromkeys((*after.clouds, *before.clouds)))
        self.at = At(Builder(), clouds, self.secrets)
        self.done: Done = frozenset()
        for step in (s for s in self.between.steps if s in ready):
            self.do(step)
        self.world.run(15.0)

    def do(self, step: Step) -> None:
        self.done |= {step}
        world, between = self.world, self.between
        if step.place in between.before.clouds or step.place in between.after.clouds:
            work = cloud_work(between, step, self.done, self.at)
            for made in work.make:
                key = kind_and_name(made)
                held = world.store.resources.get(key)
                world.store.put(
                    *key, made.body, None if held is None else world.store.etag(held), world.now
                )
                while world.store.operation_on(*key) is not None:
                    world.run(0.05)
            for name in work.remove:
                key = tuple(name.split("/", 1))
                if key in world.store.resources:
                    world.store.delete(*key, world.now)
                    while world.store.operation_on(*key) is not None:
                        world.run(0.05)
        else:
            world._hand(step.place, *gateway_work(between, step.place, self.done, self.secrets))

    def differences(self) -> list[str]:
        """Where packets do other than is said."""
        self.world.run(20.0)
        outlook, settled = self.looks.of(self.done), state(self.between, self.done)
        by_words = {(f.source, f.destination, f.service): f for f in self.between.flows}
        asked, found = list[tuple[Flow, Host, Query]](), list[str]()
        for wish in settled.own_expectations():
            flow = by_words.get((str(wish.source), str(wish.destination), wish.service))
            if flow is None or outlook.why.get(flow) in UNPROMISED:
                continue
            try:
                key = key_of(settled, (wish.source, None), (wish.destination, None), wish.flow)
            except (KeyError, IndexError):
                continue
            host = self.world.host_at(wish.source.place, key.source)
            if host is None:
                found += self._apart(flow, False)
                continue
            port, now = wish.flow.first_port, self.world.now
            asked.append((flow, host, host.ask(key.protocol, key.destination, port, now)))
        self.world.move()
        self.world.run(1.0)
        for flow, host, query in asked:
            found += self._apart(flow, query.answered_at is not None)
            host.forget(query)
        self.world.move()
        return found

    def _apart(self, flow: Flow, seen: bool) -> list[str]:
        """Empty where what is seen of a flow is what is said."""
        outlook = self.looks.of(self.done)
        if seen is (flow in outlook.works):
            return []
        return [f"{flow.words}: {seen}, said: {outlook.why.get(flow, 'works')}"]
