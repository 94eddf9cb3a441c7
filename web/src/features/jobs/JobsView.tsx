/** Studies waiting, under way and done: how far each is, what came of it, and what can be done about it. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { jobQuery, studiesQuery } from '../../api/queries'
import type { components } from '../../api/schema'
import { Button, IconButton, Plain } from '../../design/controls'
import { font } from '../../design/tokens'
import {
  cancelJob,
  forgetJob,
  inOrder,
  isUnderWay,
  type Job,
  jobAgain,
  jobGoesOn,
  useJobs,
} from '../../session/jobs'
import { keepRun } from '../../session/runs'
import { notify, useBench } from '../../session/store'
import { showJob } from '../../session/studies'
import { openView } from '../../shelf/desks'
import { allViews } from '../../shelf/registry'

type StudyInfo = components['schemas']['StudyOut']

const Scroll = styled.div`height: 100%; overflow-y: auto; &:focus-visible { outline-offset: -3px; }`
const List = styled.ul`list-style: none; margin: 0; padding: 0;`
const Row = styled.li`
  display: grid; grid-template-columns: 116px minmax(0, 1fr) minmax(120px, 190px) 76px 212px; gap: 1px 14px; padding: 6px 10px 6px 16px; align-items: center;
  border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 46px;
  .state { font-weight: 500; } &[data-state='failed'] .state, &[data-state='interrupted'] .state { color: ${(p) => p.theme.breach}; }
  &[data-state='finished'] .state { color: ${(p) => p.theme.good}; } &[data-state='cancelled'] .state, &[data-state='waiting'] .state { color: ${(p) => p.theme.quiet}; }
  progress { width: 100%; accent-color: ${(p) => p.theme.accent}; height: 8px; }
  .name { font-weight: 500; } .quiet { color: ${(p) => p.theme.quiet}; font-size: 12px; }
  .name, .quiet { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; display: block; }
  .figure { font: 400 12px ${font.mono}; color: ${(p) => p.theme.quiet}; text-align: right; }
  .acts { display: flex; gap: 2px; justify-content: flex-end; }
  .more { grid-column: 2 / -1; white-space: normal; } .stale { color: ${(p) => p.theme.breach}; }
  pre { grid-column: 2 / -1; font: 400 11.5px/1.45 ${font.mono}; white-space: pre-wrap; overflow-wrap: anywhere; margin: 4px 0 2px; max-height: 240px; overflow-y: auto; }
  @container (max-width: 760px) { grid-template-columns: 96px minmax(0, 1fr) 212px; > .of, > .figure { display: none; } }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet}; max-width: 620px;`

const WORDS: Record<Job['state'], string> = {
  waiting: 'waiting',
  running: 'running',
  joining: 'joining',
  finished: 'done',
  cancelled: 'cancelled',
  failed: 'failed',
  interrupted: 'interrupted',
}

export const duration = (seconds: number) =>
  seconds < 0.1
    ? `${Math.ceil(1000 * seconds)} ms`
    : seconds < 10
      ? `${seconds.toFixed(1)} s`
      : seconds < 100
        ? `${Math.round(seconds)} s`
        : seconds < 6000
          ? `${Math.round(seconds / 60)} min`
          : `${(seconds / 3600).toFixed(1)} h`

const clock = (iso: string) =>
  new Date(iso).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const day = (iso: string) => new Date(iso).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
const when = (iso: string) => (day(iso) === day(new Date().toISOString()) ? clock(iso) : day(iso))

/** What was asked otherwise than usual. */
function asked(job: Job, study: StudyInfo | undefined): string {
  if (!study) return ''
  return study.fields
    .filter((f) => f.name in job.options && JSON.stringify(job.options[f.name]) !== JSON.stringify(f.default))
    .map((f) => `${f.label.toLowerCase()} ${told(job.options[f.name])}${f.unit ? ` ${f.unit}` : ''}`)
    .join(' · ')
}

const told = (value: unknown) =>
  Array.isArray(value)
    ? value.join(', ') || 'none'
    : value === true
      ? 'on'
      : value === false
        ? 'off'
        : `${value}`

const viewOf = (job: Job) =>
  allViews().find((v) => v.id === job.slot) ?? allViews().find((v) => v.study === job.study)

function Acts({ job, log, setLog }: { job: Job; log: boolean; setLog: (open: boolean) => void }) {
  const view = viewOf(job)
  const open = () => {
    void showJob(job)
    if (view) openView(view.id)
  }
  const keep = async () => {
    const run = await keepRun(job.label, '', `job-${job.id}`)
    if (run) notify('news', `${job.label} is kept among the runs.`)
  }
  if (isUnderWay(job))
    return (
      <span className="acts">
        {view && <Plain onPress={open}>Open</Plain>}
        <Button onPress={() => void cancelJob(job.id)}>Cancel</Button>
      </span>
    )
  const troubled = job.state === 'failed' || job.state === 'interrupted' || job.missing > 0
  return (
    <span className="acts">
      {job.has_result && view && <Plain onPress={open}>Open</Plain>}
      {job.code === 'cluster-lost' && <Plain onPress={() => void jobGoesOn(job.id)}>Go on here</Plain>}
      <Plain onPress={() => void jobAgain(job.id)}>Again</Plain>
      {job.has_result && !job.kept && (
        <IconButton icon="pin" label={`Keep ${job.label} among the runs`} onPress={() => void keep()} />
      )}
      {troubled && (
        <IconButton icon="sheet" label={log ? 'Hide the log' : 'Show the log'} onPress={() => setLog(!log)} />
      )}
      <IconButton
        icon="close"
        label={`Take ${job.label} off the list`}
        onPress={() => void forgetJob(job.id)}
      />
    </span>
  )
}

function JobRow({ job, study }: { job: Job; study: StudyInfo | undefined }) {
  const revision = useBench((s) => s.revision)
  const [log, setLog] = useState(false)
  const { data } = useQuery({ ...jobQuery(job.id), enabled: log })
  const left = job.left_s === null || job.left_s === undefined ? '' : `, ${duration(job.left_s)} left`
  const missing = job.missing ? `${job.missing} of ${job.parts} parts without an answer` : ''
  const under = isUnderWay(job)
  const about = under
    ? `${job.state === 'waiting' ? 'waiting for a worker' : job.doing}${left}`
    : [missing, asked(job, study), job.kept ? 'kept among the runs' : ''].filter(Boolean).join(' · ')
  return (
    <Row data-state={job.state} data-job={job.id}>
      <span>
        <span className="state">
          {WORDS[job.state]}
          {job.state === 'running' && ` ${Math.round(100 * job.fraction)} %`}
          {!under && job.partial && job.has_result && ', in part'}
        </span>
        {(job.state === 'running' || job.state === 'joining') && (
          <progress max={1} value={job.fraction} aria-label={`Progress of ${job.label}`} />
        )}
      </span>
      <span>
        <span className="name">{job.label}</span>
        <span className="quiet" title={about}>
          {about || 'as usual'}
        </span>
      </span>
      <span
        className="of quiet"
        title={`On ${job.ran_on || 'no worker yet'}; asked for by ${job.who || 'nobody named'}`}
      >
        {job.condition} · revision {job.revision}
        {job.has_result && job.revision !== revision && <span className="stale quiet">out of date</span>}
      </span>
      <span className="figure">
        {when(job.at)}
        <br />
        {under || !job.took_s ? '' : duration(job.took_s)}
      </span>
      <Acts job={job} log={log} setLog={setLog} />
      {job.problem && !under && job.state !== 'cancelled' && (
        <span className="quiet more">{job.problem}</span>
      )}
      {log && <pre>{data ? data.log || 'Nothing more was noted.' : '…'}</pre>}
    </Row>
  )
}

export function JobsView() {
  const jobs = useJobs((s) => s.jobs)
  const { data: studies = [] } = useQuery(studiesQuery)
  if (jobs.size === 0)
    return (
      <None>
        No study has been run here yet. Studies run beside your work: each stands here with its progress, goes
        on while you do something else, and is found again after a restart.
      </None>
    )
  return (
    <Scroll tabIndex={0} role="region" aria-label="Jobs">
      <List aria-label="Jobs">
        {inOrder(jobs).map((j) => (
          <JobRow key={j.id} job={j} study={studies.find((s) => s.name === j.study)} />
        ))}
      </List>
    </Scroll>
  )
}
