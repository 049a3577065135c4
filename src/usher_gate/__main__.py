"""`python -m usher_gate` is the program."""

from .cli.main import main

if __name__ == "__main__":
    main()
