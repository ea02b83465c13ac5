"""`python -m evrin` is the command `evrin`."""

from evrin.cli.start import main

if __name__ == "__main__":
    main()
