"""How large the window and its three panes are, for the bare frame and for what fills it."""

#: px at 1280 of trail, bench, and next check with suspects; and the least that each takes
PANES = (226, 724, 298)
LEAST = (206, 440, 266)
#: px inside the frame: it fits a screen of 1280 x 800 with its title bar and a panel
SIZE = (1280, 720)
LEAST_SIZE = (1024, 640)
HEADER_HEIGHT = 48  #: px; what comes and goes in the header does not move what stands below
