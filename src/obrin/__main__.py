"""`python -m obrin`."""

from obrin.cli.entry import run

if __name__ == "__main__":
    run()
