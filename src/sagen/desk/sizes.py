"""How large the window and its three panes are, for the bare frame and for what fills it."""

#: px at 1280 of trail, bench, and next check with suspects; and the least that each takes
PANES = (226, 724, 298)
LEAST = (206, 440, 266)
#: px inside the frame: it fits a screen of 1280 x 800 with its title bar and a panel
SIZE = (1280, 720)
LEAST_SIZE = (800, 480)
#: px of the window below which only one pane stands beside the bench, and none unless it is asked for
FOLDED, NARROWEST = 1100, 900
TEXT_SIZES = (100, 125, 150)  #: % of text and controls


def remembered_size(settings) -> int:
    """The size of text and controls in %, as it was chosen last."""
    try:
        size = int(settings.value("text/size", 100))
    except (TypeError, ValueError):
        return 100
    return size if size in TEXT_SIZES else 100


HEADER_HEIGHT = 48  #: px; what comes and goes in the header does not move what stands below
