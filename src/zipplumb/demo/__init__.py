"""The demo scenario: Merrowmoor Tidal's parts, all invented."""
