"""What single words mean: values, comparisons, controls, and the closed lists of words."""
