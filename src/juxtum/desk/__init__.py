"""The desk: the window. All computing is in the packages below it; here it is asked for and shown."""
