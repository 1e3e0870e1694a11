"""Further cases of what others show faster: run with `--long`, as at night; each by a part of its name.

A claim keeps at least one case that every run tells; what stands here are more draws, more shapes, more formats of the same.
"""

LONG = (
    "test_features.py::test_covariance_is_that_of_many_repeats[Line",
    "test_features.py::test_covariance_is_that_of_many_repeats[Circle",
    "test_features.py::test_covariance_is_that_of_many_repeats[Plane",
    "test_features.py::test_covariance_is_that_of_many_repeats[Cone",
    "test_extreme.py::test_the_truth_lies_within_the_uncertainty[0.005-0.6-flat",
    "test_extreme.py::test_the_truth_lies_within_the_uncertainty[0.05-0.6-bump",
    "test_extreme.py::test_the_truth_lies_within_the_uncertainty[0.02-2.0",
    "test_kinds.py::test_the_true_flatness_lies_within_the_uncertainty[0.005",
    "test_kinds.py::test_the_true_flatness_lies_within_the_uncertainty[0.03-flat",
    "test_datums.py::test_each_datum_locks_what_the_drawing_lets_it_lock[holes-system0",
    "test_datums.py::test_each_datum_locks_what_the_drawing_lets_it_lock[ball",
    "test_datums.py::test_each_datum_locks_what_the_drawing_lets_it_lock[ring-system6",
    "test_starts.py::test_a_start_is_right_or_says_that_it_is_not_sure[beam of 3 m-full mesh with outliers",
    "test_starts.py::test_a_start_is_right_or_says_that_it_is_not_sure[bolted flange-one view",
    "test_starts.py::test_a_start_is_right_or_says_that_it_is_not_sure[plate with small holes-part mesh",
    "test_silence.py::test_it_is_said[bump of 3.5 mm",
    "test_silence.py::test_it_is_said[bump of 5 mm",
    "test_entities.py::test_it_scatters_no_more_than_it_says",
    "test_grown.py::test_what_is_made_of_others_scatters_as_it_says",
    "test_alignments.py::test_they_scatter_as_far_as_they_say",
    "test_assemble_scans.py::test_a_written_surface_is_read_back_alike[obj",
    "test_assemble_scans.py::test_the_order_in_which_they_come_changes_nothing",
    "test_plan_network.py::test_covariance_agrees_with_300_simulated_adjustments[False-0",
    "test_walls.py::test_limits_and_noise[ball",
    "test_walls.py::test_no_wall_is_hidden_where_no_ball_settles[0.0]",
    "test_hand.py::test_the_mirror_image_is_told_by_the_one_feature_that_differs[square",
    "test_align.py::test_nearly_parallel_planes_hold_as_well_as_their_uncertainty_says[1.0",
    "test_cli.py::test_being_asked_to_end_leaves_no_unfinished_folder[15-0.0",
    "test_cli_plan.py::test_the_beam_is_answered[photos",
    "test_layers.py::test_one_layer_is_one_layer[plate",
)
