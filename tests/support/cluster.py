"""A real Dask scheduler with two workers in processes of their own, on this machine.

usage: python tests/cluster.py      prints the scheduler's address, then the workers' process numbers; ends with its standard input
"""

import sys

if __name__ == "__main__":
    from distributed import LocalCluster

    with LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=None, protocol="tcp", silence_logs=50
    ) as made:
        print(made.scheduler_address, *(each.pid for each in made.workers.values()), flush=True)
        sys.stdin.read()
