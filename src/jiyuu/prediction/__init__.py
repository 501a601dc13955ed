"""What a drawing says it will do: response, resonance, whistle, tolerance, what a trim would change."""
