"""`python -m upright_ledger` is the same as `upright`."""

from upright_ledger.cli.main import main

if __name__ == "__main__":
    main()
