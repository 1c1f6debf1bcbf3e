"""What is reached without an account: the page behind a signed link, forms, calls. Each knows its callers by what they hold."""
