"""What the outcomes of a job are called, family by family."""

from __future__ import annotations

from juxtum.job.steps.base import Source


def loaded(scan: str) -> Source:
    """A scan as it was brought."""
    return Source("scan", scan)


def tied(scan: str) -> Source:
    """Where the scans lie of which one is joined."""
    return Source("tied", scan)


def joining(scan: str) -> Source:
    """How sure it is where the scans lie of which one is joined."""
    return Source("joining", scan)


def working(scan: str) -> Source:
    """How far smoothing and thinning moved the surface of a scan."""
    return Source("working", scan)


def handling(scan: str) -> Source:
    """What joining and work on its surface add to the uncertainty of what is measured on a scan."""
    return Source("handling", scan)


def parts(scan: str) -> Source:
    """The parts in a scan, told apart."""
    return Source("parts", scan)


def facts(scan: str) -> Source:
    """What has to be told of a scan's file beside the nominal."""
    return Source("facts", scan)


def worked(scan: str, count: int) -> Source:
    """A surface after a step that works on it, the step counted among those that clean the scan."""
    return Source("worked", scan, str(count))


def told(scan: str) -> Source:
    """What all work on a surface has to tell."""
    return Source("told", scan)


def deviation_map(name: str) -> Source:
    """The map in an alignment."""
    return Source("map", name)


def doubts(name: str) -> Source:
    """What has to be told of a scan in an alignment."""
    return Source("doubts", name)


def numbers(name: str) -> Source:
    """The statistics of a map."""
    return Source("statistics", name)


def line(name: str, number: int) -> Source:
    """A characteristic in an alignment, counted from 0."""
    return Source("line", name, str(number))


def given(name: str) -> Source:
    """What characteristics are measured from in an alignment."""
    return Source("given", name)


def simulated(name: str, number: int) -> Source:
    """A characteristic drawn many times over, counted from 0."""
    return Source("simulated", name, str(number))


def reading(name: str, number: int) -> Source:
    """Readings of a step in an alignment, counted from 0."""
    return Source("reading", name, str(number))


def section(name: str, number: int) -> Source:
    """Sections of a step in an alignment, counted from 0."""
    return Source("section", name, str(number))


def feature(name: str, number: int) -> Source:
    """A feature of the scan in an alignment, counted from 0."""
    return Source("feature", name, str(number))


def touched(name: str) -> Source:
    """What a probe touched, in an alignment."""
    return Source("touched", name)


def walls(name: str) -> Source:
    """How thick the walls are, where that is asked."""
    return Source("walls", name)


def evaluation(name: str) -> Source:
    """All of them together."""
    return Source("evaluation", name)
