"""What a person sees of crossings: scales, queue, report, speed."""
