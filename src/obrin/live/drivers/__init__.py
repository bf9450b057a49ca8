"""Drivers: what all clouds and all gateways have in common, and one package for each kind.

`protocol.py` says what a driver does, `seen.py` what it reports, `places.py` which driver serves
which place, `registry.py` finds them by their entry points (`obrin.clouds`, `obrin.gateways`).
Whoever writes another one holds it against `obrin.testing.drivers`.
"""
