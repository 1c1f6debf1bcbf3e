"""The tests. Passwords are hashed cheaply in them, and an example that is slow because the machine is busy fails nothing."""

from argon2 import PasswordHasher
from hypothesis import settings

from tests.short import WHOLE
from ulmus.api.security import passwords

settings.register_profile("here", deadline=None, max_examples=100 if WHOLE else 25)
settings.load_profile("here")
passwords._hasher = PasswordHasher(time_cost=1, memory_cost=64, parallelism=1)
