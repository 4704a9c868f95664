"""Run the command line as ``python -m widetrail``."""

from widetrail.cli import main

if __name__ == "__main__":
    main()
