"""Who may use Lumtar."""
