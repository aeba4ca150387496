"""Tests that may have a second try: each holds a rate over a virtual link, or what limited it, against arithmetic.

A machine that others use as well may have no time for that just then. Two tries at most, and every second one is
counted and said. A test is put here for no other reason.
"""

BUSY = "this host was busy"
"""Why one of them may be skipped, where it is proven: a tester that is short of CPU says so and gives no figure."""

SECOND_TRY = frozenset(
    {
        "tests.whole.test_device.Events.test_a_path_that_is_cut_costs_what_it_was_cut",
        "tests.whole.test_device.Events.test_an_impairment_changes_in_mid_test_and_back",
        "tests.whole.test_frames.OnAVirtualRig.test_a_calibration_is_kept_and_used",
        "tests.whole.test_frames.OnAVirtualRig.test_throughput_of_a_shaped_switch_is_the_arithmetic",
        "tests.whole.test_paths.Paths.test_a_shaped_path_gives_what_the_arithmetic_allows",
        "tests.whole.test_paths.Paths.test_random_loss_is_the_limiter",
        "tests.whole.test_remote_rigs.Remote.test_a_switch_between_two_hosts_is_found_to_be_what_it_is",
        "tests.whole.test_tcp.Measuring.test_a_small_buffer_is_the_limiter",
        "tests.whole.test_tcp.Measuring.test_pacing_is_recognised",
        "tests.whole.test_udp.PathsOfKnownProperties.test_a_shaped_interface_is_the_senders_own_limit",
    }
)
