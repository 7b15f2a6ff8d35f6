from lumtar.core.advice import better_than_community, community_advice, user_advice


def test_a_guessable_community_is_said_first():
    assert "well-known default" in community_advice("Public")[0]
    assert all("well-known" not in each for each in community_advice("oskelund-read"))


def test_blanks_are_kept_and_pointed_out():
    assert any("begins and ends with a blank. It is kept" in each for each in community_advice(" word "))
    assert any("privacy password ends with" in each for each in user_advice("sha256", "aes128", {"privacy": "word "}))


def test_version_3_is_only_as_good_as_its_protocols():
    assert user_advice("sha256", "aes128", {"authentication": "one", "privacy": "two"}) == []
    assert "pose as this user" in user_advice("", "", {})[0]
    assert "MD5 is outdated" in user_advice("md5", "aes256", {})[0]
    assert "in the clear" in user_advice("sha512", "", {"authentication": "one"})[0]
    assert "DES is broken" in user_advice("sha256", "des", {})[0]
    assert "same password" in user_advice("sha256", "aes128", {"authentication": "a", "privacy": "a"})[0]


def test_a_better_one_is_named():
    assert "County version 3" in better_than_community("County version 3")
