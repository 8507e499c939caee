"""Links to other processes over DDS (``link``), and driving by hand (``cockpit``): each imports what it needs alone."""
