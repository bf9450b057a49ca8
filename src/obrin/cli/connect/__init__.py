"""Commands that build, try and watch: the practice world, connect, status, probe, rehearse."""
