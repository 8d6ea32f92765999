"""The task that the queue starts; all it does is supervise a child process."""

from django_tasks import task

from jobs.supervise import supervise


@task()
def run_job(job_id: str) -> None:
    """Run one job to its end."""
    supervise(job_id)
