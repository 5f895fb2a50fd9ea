"""The work itself: each takes a plan and a job, and gives a outcome."""
