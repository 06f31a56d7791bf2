"""``python -m eager_tern`` is the ``eager-tern`` command."""

from eager_tern.cli.app import main

if __name__ == "__main__":
    main()
