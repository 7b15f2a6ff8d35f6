"""The long-running processes: collector and worker. They join wire, core and domain and hold no rule of the job."""
