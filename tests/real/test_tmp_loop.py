from real.test_rabbitmq import *
def test_loop(house, broker):
    for n in range(25):
        name=f"tail-{n}"
        house.charter(CHARTER.replace("charter: tail", f"charter: {name}"), name)
        assert house.run("enact", name, "--yes").code == 0
        ran = house.run("rotate", name, "--gap", "--yes", "--debug")
        assert "the new tail-pw where its consumers read it" in ran.out, (n, ran.out, ran.err)
        assert house.run("retire", name, "--because", "over", "--yes").code == 0
