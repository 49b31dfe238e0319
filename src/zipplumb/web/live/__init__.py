"""Live events: who listens, what they are sent, and the tip."""
