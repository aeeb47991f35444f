"""The Intake desk: manuscript and recordings come in and are paired."""
