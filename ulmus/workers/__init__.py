"""Carrying out steps on other machines, over any broker that Celery supports (an extra of the distribution: ``ulmus[workers]``).

`broker` is the house's side: it publishes the ids of tasks. `worker` is the other: it takes them, asks the house for what they need, and
answers. Nothing else knows of Celery.
"""
