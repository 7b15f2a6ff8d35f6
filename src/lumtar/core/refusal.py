"""What somebody asked for and cannot have, said so that they can mend it."""


class Refusal(ValueError):
    """A refusal in words for the person who asked.

    Parameters
    ----------
    sentence : what is wrong and what a good value is
    field : the field of the form that it is about; empty if it is about all of it
    """

    def __init__(self, sentence: str, field: str = "") -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.field = field
