"""Set-up as text: written out, compared, and taken back."""
