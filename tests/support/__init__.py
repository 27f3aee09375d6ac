"""What tests of the whole product share: an instance, projects with people, programs."""
