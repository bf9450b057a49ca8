"""`python -m obrin`."""

from obrin.cli.main import run

if __name__ == "__main__":
    run()
