"""One relocation: plan, problems, journal, engine, settle, switch, park, release, receipt."""
