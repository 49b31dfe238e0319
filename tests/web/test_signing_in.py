"""Guesses lock nobody out who is right, starve nobody, and a session ends by itself and with all that it showed."""

import asyncio
import threading
import time
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import delete, select, update
from visitor import Visitor

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.jobs import attempts, people
from zipplumb.jobs.attempts import Origin, in_turn
from zipplumb.store.database import transaction
from zipplumb.store.models import SignedIn, SignInAttempt, User
from zipplumb.web.live.hub import Hub

PASSWORD = "a long enough one"


@pytest.fixture
def person():
    """Somebody new, and no attempts of before."""
    login = f"signs-{time.monotonic_ns()}"
    people.add_person(login, "Somebody", "technician", PASSWORD)
    yield login
    with transaction() as session:
        session.execute(delete(SignInAttempt).where(SignInAttempt.address.like("10.%")))


def guessed(login, address, count):
    """What is answered to wrong passwords."""
    found = []
    for k in range(count):
        try:
            people.sign_in(login.replace("#", str(k)), "wrong", address.replace("#", str(k)))
        except PlumbError as error:
            found.append(type(error))
    return found


def test_guesses_from_everywhere_do_not_lock_the_right_person_out(app, person):
    mine = Visitor(app, "10.1.0.1")
    assert mine.sign_in(person, PASSWORD).status_code == 302
    mine.post("/sign-out")
    assert guessed(person, "10.2.0.#", attempts.FROM_ANYWHERE + 2).count(InputError) == attempts.FROM_ANYWHERE
    stranger = Visitor(app, "10.3.0.1").sign_in(person, PASSWORD)
    assert b"Sign in where you have signed in before" in stranger.data
    assert mine.sign_in(person, PASSWORD).status_code == 302  # in the browser that is known


def test_a_browser_that_is_known_guesses_no_more_than_others(app, person):
    mine = Visitor(app, "10.1.0.2")
    mine.sign_in(person, PASSWORD)
    mine.post("/sign-out")
    for _ in range(attempts.ATTEMPTS):
        assert b"name or the password is wrong" in mine.sign_in(person, "wrong").data
    assert b"too many" in mine.sign_in(person, PASSWORD).data
    assert Visitor(app, "10.1.0.3").sign_in(person, PASSWORD).status_code == 302


def test_a_made_up_browser_is_a_stranger(app, person):
    stranger = Visitor(app, "10.1.0.4")
    stranger.client.set_cookie("known", '{"number": "1", "logins": ["' + person + '"]}', path="/sign-in")
    for _ in range(attempts.ATTEMPTS):
        stranger.sign_in(person, "wrong")
    with transaction() as session:
        places = set(session.scalars(select(SignInAttempt.address).where(SignInAttempt.login == person)))
    assert places == {"10.1.0.4"}


def test_ever_new_names_from_one_place_come_to_an_end(app, person):
    assert guessed("nobody-#", "10.4.0.1", attempts.FROM_ONE_PLACE + 5).count(InputError) == attempts.FROM_ONE_PLACE
    assert Visitor(app, "10.4.0.2").sign_in(person, PASSWORD).status_code == 302
    assert Origin.address("2001:db8:1:2:3::4") == Origin.address("2001:db8:1:2:ffff::9")  # one network, one place
    assert Origin.address("2001:db8:1:2::1") != Origin.address("2001:db8:1:3::1")


def test_strangers_wait_for_each_other_and_not_for_long_and_friends_do_not():
    """As many as may be in hand are told to try again, whoever is known is checked beside them."""
    release, told = threading.Event(), []

    def hold(place):
        try:
            with in_turn(Origin(place)):
                release.wait(20)
        except PlumbError as error:
            told.append(error)

    held = [threading.Thread(target=hold, args=(f"10.5.0.{k}",)) for k in range(attempts.IN_HAND)]
    for thread in held:
        thread.start()
    while sum(attempts._in_hand.values()) < attempts.IN_HAND:
        time.sleep(0.001)
    with pytest.raises(PlumbError, match="Too many sign in at this moment"), in_turn(Origin("10.5.0.9")):
        pass
    with in_turn(Origin.browser("7")):
        release.set()
    for thread in held:
        thread.join()
    assert not attempts._in_hand
    with in_turn(Origin("10.5.0.9")):
        pass


def test_no_place_takes_all_turns():
    with in_turn(Origin("10.6.0.1")):
        assert attempts.OF_ONE_PLACE < attempts.IN_HAND


def test_a_session_ends_by_itself_after_so_long_without_a_request(app, person):
    visitor = Visitor(app, "10.1.0.5")
    visitor.sign_in(person, PASSWORD)
    with transaction() as session:
        number = session.scalar(select(User.id).where(User.login == person))
    mine = update(SignedIn).where(SignedIn.user_id == number)

    def unseen(since):
        with transaction() as session:
            session.execute(mine.values(seen_at=datetime.now(UTC) - since))

    unseen(people.IDLE - timedelta(minutes=2))
    assert visitor.get("/").status_code == 200  # which is seen
    with transaction() as session:
        seen = session.scalar(select(SignedIn.seen_at).where(SignedIn.user_id == number))
    assert datetime.now(UTC) - seen < timedelta(minutes=1)
    unseen(people.IDLE + timedelta(minutes=2))
    assert visitor.get("/").status_code == 302


@pytest.mark.parametrize("end", ["sign out", "end sessions", "may not sign in", "password", "by itself"])
def test_a_live_page_ends_with_its_session(app, stack, person, end):
    visitor = Visitor(app, "10.1.0.6")
    visitor.sign_in(person, PASSWORD)
    answer = visitor.get(f"/jobs/{stack.job}/live")
    to, of_session = answer.headers["X-Live"], answer.headers["X-Of-Session"]
    other = Visitor(app, "10.1.0.7")
    other.sign_in("tamsin")
    theirs = other.get(f"/jobs/{stack.job}/live").headers["X-Of-Session"]
    with transaction() as session:
        number = session.scalar(select(User.id).where(User.login == person))
    by = people.Actor(number, "Somebody", "administrator")
    ends = {
        "sign out": lambda: people.sign_out(by, of_session),
        "end sessions": lambda: people.end_sessions(by, number),
        "may not sign in": lambda: people.change_person(by, number, "Somebody", "technician", False),
        "password": lambda: people.set_password(by, number, "another long one"),
        "by itself": lambda: hub._end_pages(),
    }
    hub = Hub(app)

    async def run():
        begun = [asyncio.Event(), asyncio.Event()]

        def writing(event):
            async def write(sent):
                if b"update" in sent:
                    event.set()

            return write

        pages = [asyncio.create_task(hub.listen(to, writing(b), s)) for b, s in zip(begun, (of_session, theirs), strict=True)]
        for event in begun:
            await asyncio.wait_for(event.wait(), 20)
        if end == "by itself":
            with transaction() as session:
                idle = datetime.now(UTC) - 2 * people.IDLE
                session.execute(update(SignedIn).where(SignedIn.user_id == number).values(seen_at=idle))
        await asyncio.to_thread(ends[end])
        await asyncio.wait_for(pages[0], 10)
        assert not pages[1].done()
        pages[1].cancel()
        await asyncio.gather(*pages, return_exceptions=True)

    asyncio.run(run())
