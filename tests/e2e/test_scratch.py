import time
import by_hand
import numpy as np
from by_hand import TECHNICIAN
from kit_pages import Kit
from zipplumb.demo import carrier
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.plan import picking
from zipplumb.store.database import transaction
from zipplumb.store.models import Calibration, Instrument, Cloud, Reading
from zipplumb.jobs.state.results import load
from carrier_bench import UP

def test_it(tamsin, bench, running):
    here = bench("Sc")
    page = here.page
    here.datums()
    for name in ("Top","Side","End"):
        by_hand.measured(here.job, here.rows[name])
    tamsin.open(here.job, "align")
    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    tamsin.until(lambda: "0 spare" in page.locator("#now .active").inner_text())
    port = running.sims["arm"][0]
    kit = Kit(tamsin)
    kit.probe("Line scanner")
    kit.begin("scanner", certified="25.4", certified_unit="mm")
    kit.hand("Scanner on")
    kit.hand("Scan the sphere")
    tamsin.until(lambda: "Press finish" in kit.ask().inner_text(), 90)
    tell_hand({"do": "stop"}, port)
    kit.hand("Finish")
    kit.ended("pass")
    tamsin.open(here.job, "part")
    for f in here.faces: print(f["index"], (f["nominal"] or {}).get("shape"), f["nominal"])
    bores=[here.hole(carrier.BOLT, x * carrier.BOLT_X, y*carrier.BOLT_Y) for x in (-1, 1) for y in (-1,1)]
    main=[f["index"] for f in here.faces if (f["nominal"] or {}).get("shape")=="cylinder"]
    top=here.plane(UP, carrier.FOOT) if True else None
    for face in [*main, top]:
        with transaction() as ses: picking.plan_face(ses, TECHNICIAN, here.job, face)
    page.screenshot(path="/tmp/s1.png")
    tamsin.go("Measure")
    move_hand(TECHNICIAN, here.job, "scan_face", face=top)
    time.sleep(4)
    page.screenshot(path="/tmp/s2.png")
    for f in (7,10,12,13,9,11):
        move_hand(TECHNICIAN, here.job, "scan_face", face=f)
        move_hand(TECHNICIAN, here.job, "scan_face", face=f, side=1)
        move_hand(TECHNICIAN, here.job, "scan_face", face=f, side=3)
    t=time.time(); tamsin.until(lambda: tell_hand({"do":"ask"})["busy"]==0, 200); print("scanned", time.time()-t)
    page.screenshot(path="/tmp/s3.png")
    by_hand.tell_hand({"do": "click", "button": "finish"})
    time.sleep(6)
    page.screenshot(path="/tmp/s4.png")
    with transaction() as s:
        for c in s.query(Cloud): print(c.state,c.message,c.share,c.key)
        print(s.query(Reading).filter(Reading.job_id==here.job, Reading.points!=b"").count())
        st=load(s,here.job)
        for r in st.rows: print(r.id,r.recipe.name,st.results[r.id].state,st.results[r.id].message, st.results[r.id].cloud and (st.results[r.id].cloud.read,st.results[r.id].cloud.cells))
        scan=next(r.id for r in st.rows if r.recipe.kind=="scan")
    tamsin.row("Scan 1").click()
    page.wait_for_timeout(1500)
    page.click("[data-slip-size=whole]") if page.locator("[data-slip-size=whole]").count() else None
    page.screenshot(path="/tmp/s5.png")
    page.locator("#slip").get_by_role("button", name="Give its points to").click()
    time.sleep(6)
    page.screenshot(path="/tmp/s6.png")
    with transaction() as s:
        for c in s.query(Cloud): print(c.state,c.message,c.share,c.key)
        st=load(s,here.job)
        for r in st.rows:
            f=st.results[r.id]
            print(r.id,r.recipe.name,f.state,f.message, [(c.key,c.nominal and round(c.nominal,3),c.actual and round(c.actual,4),c.U and round(c.U,4)) for c in f.characteristics])
    print(tamsin.complaints)
