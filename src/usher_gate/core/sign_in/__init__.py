"""What a sign-in meets: one decision, every way in, who is locked out, and past sign-ins decided again."""
