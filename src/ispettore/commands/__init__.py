"""What each command does. Each is loaded by itself: who asks for help or for a list loads no meter."""
