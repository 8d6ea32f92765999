"""The task that the queue starts; all it does is supervise a child process."""

from django_tasks import task

from jobs.supervise import supervise_next


@task()
def run_job(job_id: str) -> None:
    """Run the job that is next to its end; it need not be the one for which the task was queued."""
    supervise_next()
