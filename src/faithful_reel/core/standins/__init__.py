"""Small simulations of the world outside, such as a sound card."""
