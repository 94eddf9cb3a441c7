"""What the session makes of jobs: told in any order, of several tabs and projects; the service is a function here."""

from __future__ import annotations

from typing import Any

from .conftest import Js

# A service that answers from a list: the text of a path, and what it says; asked paths are noted down.
_SERVICE = """
(() => { globalThis.asked = []
  m.client.use({ onRequest({ request }) {
    const path = new URL(request.url).pathname
    asked.push(`${request.method} ${path}`)
    const found = i.answers.find(([end, method]) => path.endsWith(end) && (method ?? 'GET') === request.method)
    return new Response(JSON.stringify(found ? found[2] : { detail: 'no such thing' }),
      { status: found ? 200 : 404, headers: { 'content-type': 'application/json' } }) } })
  m.useBench.setState({ project: { id: 'p' }, revision: 3 })
})()
"""
_REST = "const calm = () => new Promise(r => setTimeout(r, 20));"


def told(**more: Any) -> dict[str, Any]:
    base = {
        "id": "j", "project": "p", "study": "sweep", "label": "Sweep", "slot": "", "tab": "", "state": "running", "fraction": 0.1,
        "at": "2026-01-01", "revision": 3, "has_result": False, "partial": False, "took_s": 0.2, "problem": None,
    }  # fmt: skip
    return {**base, **more}


def run(js: Js, steps: str, **inputs: Any) -> Any:
    inputs.setdefault("answers", [])
    return js(f"await (async () => {{ {_SERVICE}; {_REST} {steps} }})()", **inputs)


def test_what_ended_does_not_run_again_and_other_projects_count_for_nothing(js: Js) -> None:
    found = run(
        js, "for (const j of i.told) m.jobs.takeJob(j); return [...m.jobs.useJobs.getState().jobs.values()]",
        told=[told(), told(state="finished"), told(fraction=0.5), told(id="x", project="other")],
    )  # fmt: skip
    assert [(j["id"], j["state"]) for j in found] == [("j", "finished")]


def test_a_study_goes_from_its_start_over_events_to_its_result(js: Js) -> None:
    result = {"tables": {}, "statement": "done"}
    found = run(
        js,
        """
        const going = m.studies.runStudy('sweep', {}); await calm()
        const before = m.studies.useStudies.getState().sweep.job.fraction
        m.jobs.takeJob({ ...i.job, fraction: 0.6 })
        const midway = m.studies.useStudies.getState().sweep.job.fraction
        m.jobs.takeJob({ ...i.job, state: 'finished', has_result: true })
        const answer = await going
        const s = m.studies.useStudies.getState().sweep
        return { before, midway, answer, job: s.job, address: s.address, revision: s.revision, asked }
        """,
        job=told(), answers=[["/runs", "POST", told()], ["/results/job-j", "GET", result]],
    )  # fmt: skip
    assert (found["before"], found["midway"], found["job"]) == (0.1, 0.6, None)
    assert (found["answer"], found["address"], found["revision"]) == (result, "job-j", 3)
    assert found["asked"].count("GET /api/projects/p/results/job-j") == 1


def test_an_end_that_is_told_before_the_start_is_answered_is_not_missed(js: Js) -> None:
    found = run(
        js,
        """
        const going = m.studies.runStudy('sweep', {})
        m.jobs.takeJob({ ...i.job, state: 'failed', problem: 'no such bus' })
        await going
        return m.studies.useStudies.getState().sweep
        """,
        job=told(), answers=[["/runs", "POST", told()]],
    )  # fmt: skip
    assert (found["job"], found["problem"]) == (None, "no such bus")


def test_a_later_run_takes_the_place_of_an_earlier_one(js: Js) -> None:
    found = run(
        js,
        """
        const first = m.studies.runStudy('sweep', {}); await calm()
        i.answers[0][2] = i.second
        const second = m.studies.runStudy('sweep', {}); await calm()
        m.jobs.takeJob({ ...i.second, state: 'finished', has_result: true })
        m.jobs.takeJob({ ...i.job, state: 'cancelled', problem: 'It was cancelled.' })
        await second
        const s = m.studies.useStudies.getState().sweep
        return { address: s.address, problem: s.problem }
        """,
        job=told(), second=told(id="k"),
        answers=[["/runs", "POST", told()], ["/results/job-k", "GET", {"tables": {}}]],
    )  # fmt: skip
    assert found == {"address": "job-k", "problem": None}


def test_only_what_this_tab_asked_for_is_found_again(js: Js) -> None:
    found = run(
        js,
        """
        const mine = { ...i.job, state: 'finished', has_result: true, tab: m.TAB }
        m.jobs.takeJob({ ...mine, id: 'theirs', tab: 'another', at: '2026-02-02' })
        await m.studies.findAgain('sweep')
        const before = m.studies.useStudies.getState().sweep ?? null
        m.jobs.takeJob(mine)
        await m.studies.findAgain('sweep')
        return { before, address: m.studies.useStudies.getState().sweep.address }
        """,
        job=told(), answers=[["/results/job-j", "GET", {"tables": {}}]],
    )  # fmt: skip
    assert found == {"before": None, "address": "job-j"}


def test_what_there_is_so_far_is_shown_and_a_failure_to_fetch_it_is_no_problem(js: Js) -> None:
    found = run(
        js,
        """
        void m.studies.runStudy('sweep', {}); await calm()
        m.jobs.takeJob({ ...i.job, partial: true, has_result: true }); await calm()
        const s = m.studies.useStudies.getState().sweep
        const first = { partial: s.partial, problem: s.problem, rows: s.result?.rows ?? null }
        return first
        """,
        job=told(), answers=[["/runs", "POST", told()], ["/results/job-j", "GET", {"rows": 4}]],
    )  # fmt: skip
    assert found == {"partial": True, "problem": None, "rows": 4}
    missing = run(
        js,
        """
        void m.studies.runStudy('sweep', {}); await calm()
        m.jobs.takeJob({ ...i.job, partial: true, has_result: true }); await calm()
        return m.studies.useStudies.getState().sweep.problem
        """,
        job=told(), answers=[["/runs", "POST", told()]],
    )  # fmt: skip
    assert missing is None


def test_a_broken_stream_is_made_good_by_asking_for_all(js: Js) -> None:
    found = run(
        js,
        """
        const going = m.studies.runStudy('sweep', {}); await calm()
        await m.jobs.loadJobs('p')
        await going
        return m.studies.useStudies.getState().sweep.problem
        """,
        answers=[["/runs", "POST", told()], ["/jobs", "GET", [told(state="interrupted", problem="The service ended.")]]],
    )  # fmt: skip
    assert found == "The service ended."
