"""The stations of the route, one worksheet each; what they say is worked out without a window in `findings`."""
