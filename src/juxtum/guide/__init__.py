"""What is said to people about a job: findings, next actions, headlines. Without a window and without drawing."""
