"""Phase two: asking a service at its pace, with retries, follow-up requests and cancellation."""
