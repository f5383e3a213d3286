"""Where a formula is worked out: at each step, on cells' values of periods, or on regions'."""

STEP = "step"
CELL = "cell"
REGION = "region"
MAKE_ON = (STEP, CELL, REGION)
