"""What a person does with a job, without a window: frozen request in, frozen answer out, each naming its job.

The window and the command line call the same functions. A request that writes is never superseded by another one.
"""
