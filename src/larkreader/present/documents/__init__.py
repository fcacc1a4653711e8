"""Documents for programs: JSON with their schemas, JUnit, annotations, frames as files."""
