"""Django applications, one a subject: what is stored, what can be done with it, what can be asked."""
