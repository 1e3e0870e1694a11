"""`python -m juxtum`."""

from juxtum.cli import main

raise SystemExit(main())
