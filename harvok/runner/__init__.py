"""What a user asks for, one file a use. Joins procedures, rigs and logbook; knows nothing of Typer or Rich."""
