"""Which words stand in the lines of a program? Lines of capital letters and numbers alone, as nearly all are, in
one go over the bytes. (compiled)
"""

from numba import njit

# How a line is: to be read by the grammar, of plain words, or saying nothing.
OTHER, PLAIN, NOTHING = 0, 1, 2
# Digits that a double holds whole: their number over a power of ten is the nearest there is.
MOST_DIGITS = 15


@njit(nogil=True, cache=True, error_model="numpy")
def scan(data, longest, starts, kinds, letters, values):
    """Fill, for each line of the bytes, where its words start (one more than lines) and how it is, and letter and
    value of each word; gives the number of words. longest: characters a line may have.
    """
    words = line = at = 0
    n = data.shape[0]
    starts[0] = 0
    while at <= n:
        begin, first, good, percent, some = at, words, True, False, False
        while at < n and data[at] != 10:
            c = data[at]
            if c == 32 or c == 9 or c == 13:
                at += 1
                continue
            if c == 37 and not some and not percent:
                percent = True
                at += 1
                continue
            some = True
            if c < 65 or c > 90 or percent:
                good = False
                break
            at += 1
            while at < n and (data[at] == 32 or data[at] == 9):
                at += 1
            minus = False
            if at < n and (data[at] == 43 or data[at] == 45):
                minus = data[at] == 45
                at += 1
            whole, digits, after, point = 0, 0, 0, False
            while at < n:
                d = data[at]
                if 48 <= d <= 57:
                    whole = whole * 10 + (d - 48)
                    digits += 1
                    if point:
                        after += 1
                    if digits > MOST_DIGITS:
                        break
                elif d == 46 and not point:
                    point = True
                else:
                    break
                at += 1
            if digits == 0 or digits > MOST_DIGITS:
                good = False
                break
            value = whole / 10.0**after
            letters[words] = c
            values[words] = -value if minus else value
            words += 1
        while at < n and data[at] != 10:
            at += 1
        if at - begin > longest:
            good = False
        if not good:
            words = first
        kinds[line] = OTHER if not good else (PLAIN if some else NOTHING)
        line += 1
        starts[line] = words
        at += 1
    return words
