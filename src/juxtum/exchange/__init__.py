"""Readers and writers of open formats, with limits on what untrusted files may ask for."""
