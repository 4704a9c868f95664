"""Run the command line as ``python -m widetrail``."""

from widetrail.cli import start

if __name__ == "__main__":
    start()
