"""The pieces of a job: another is begun by the same plan, and what is changed in that is offered to the others."""
