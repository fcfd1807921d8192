"""What if: scenarios, changes of drivers, goals, adjustments by hand, and how likely."""
