"""The mathematics of the job. Imports numpy, scipy and pydantic, and nothing else of ours."""
