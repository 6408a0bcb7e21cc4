"""`python -m yatagan` is the `yatagan` program."""

from yatagan.cli.main import main

if __name__ == "__main__":
    main()
