"""The gain window, the planner, remedies, and the loop that conforms a recording and proves it."""
