"""Keys that stand for one object."""

from attentive_lens.core.objects import Same


def test_a_key_of_an_object_is_of_that_object_and_of_none_that_is_equal_to_it() -> None:
    one, equal = [1, 2], [1, 2]
    stored = {Same(one): "one"}
    assert stored[Same(one)] == "one"
    assert Same(equal) not in stored
    assert Same(None) == Same(None) != Same(one)
    assert Same(one) != one
