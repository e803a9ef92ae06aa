"""Who is at the door: login, what of a request is let through, sharing."""
