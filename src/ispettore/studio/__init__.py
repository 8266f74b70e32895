"""The application: tables, services, jobs and the store."""
