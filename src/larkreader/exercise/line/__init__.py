"""A line that is simulated: what its ends send, and what noise and clocks make of it. It may use the payload."""
