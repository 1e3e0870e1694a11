"""The station Capture: driver, dial, floor view, panels."""
