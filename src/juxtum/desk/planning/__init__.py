"""The station Plan: its topics, their panels and what can be moved on the stage."""
