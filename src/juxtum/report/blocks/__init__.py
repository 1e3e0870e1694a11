"""What the pages of the report are made of: one row a block, in the order of the pages."""

from juxtum.report.blocks.base import Block, ReportContent
from juxtum.report.blocks.cover import COVER
from juxtum.report.blocks.features import FEATURES
from juxtum.report.blocks.figures import ALIGNMENT, BUDGETS, STATISTICS
from juxtum.report.blocks.ledger import LEDGER, READINGS, WARNINGS
from juxtum.report.blocks.picturing import SIDES
from juxtum.report.blocks.sections import SECTIONS
from juxtum.report.blocks.walls import WALLS

BLOCKS: tuple[Block, ...] = (
    COVER,
    LEDGER,
    WARNINGS,
    SIDES,
    READINGS,
    SECTIONS,
    FEATURES,
    WALLS,
    STATISTICS,
    ALIGNMENT,
    BUDGETS,
)

__all__ = ["BLOCKS", "Block", "ReportContent"]
