/** The solution badge, and behind it the account of the solution. */
import { Button, Dialog, DialogTrigger } from 'react-aria-components'
import styled, { useTheme } from 'styled-components'
import type { Account } from '../api/client'
import { BusLink } from '../card/Card'
import { Popover } from '../design/controls'
import { fixed } from '../design/format'
import { font } from '../design/tokens'
import { useParts } from '../session/store'

const Pill = styled(Button)<{ $tone: 'good' | 'bad' }>`
  display: flex; align-items: center; gap: 8px; height: 28px; line-height: 1; padding: 0 12px; min-width: 0; border-radius: 14px; cursor: default;
  border: 1px solid ${(p) => (p.$tone === 'good' ? p.theme.rule : p.theme.breach)}; background: ${(p) => p.theme.paper};
  b { flex: none; font-weight: 600; color: ${(p) => (p.$tone === 'good' ? p.theme.good : p.theme.breach)}; }
  /* Beside a long name of a condition its figures give way. */
  span { font: 400 12px/1.4 ${font.mono}; color: ${(p) => p.theme.quiet}; overflow: hidden; text-overflow: ellipsis; min-width: 0; }
  i { font-style: normal; } @media (max-width: 1400px) { [data-tight] > & { padding: 0 8px; gap: 6px; i { display: none; } } }
  @media (max-width: 1240px) { [data-tight] > & span { display: none; } }
  @media (max-width: 1400px) { [data-tight='phases'] > & span { display: none; } }
  &[data-hovered] { border-color: ${(p) => p.theme.quiet}; }
`
const Body = styled(Dialog)`
  padding: 14px 16px; width: 430px; outline: none;
  h2 { font-size: 14px; font-weight: 600; } h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 12px 0 2px; }
  .figures { list-style: none; margin: 0; padding: 0; font: 400 12px ${font.mono}; }
  .figures li { display: grid; grid-template-columns: 1fr 110px 120px; text-align: right; padding: 1px 0; align-items: baseline; } .figures button { min-height: 24px; justify-self: start; font: 400 13px ${font.sans}; }
  p { margin-top: 6px; } .why { color: ${(p) => p.theme.breach}; }
`

/** A mismatch in plain decimals when it is large enough to be read so. */
const mva = (value: number | null) =>
  value === null || value === undefined
    ? 'not a number'
    : value === 0
      ? '0'
      : Math.abs(value) < 1e-3
        ? value.toExponential(1).replaceAll('-', '−')
        : fixed(value, 3)

export function Badge() {
  const { result, failed, trying, busy } = useParts('result', 'failed', 'trying', 'busy')
  const shown = failed ?? result
  if (!shown) return null
  const { account } = shown
  const good = account.ending === 'converged'
  const word = good
    ? trying
      ? 'trying'
      : 'solved'
    : account.ending === 'nothing_to_solve'
      ? 'nothing live'
      : 'not solved'
  return (
    <DialogTrigger>
      <Pill $tone={good ? 'good' : 'bad'} data-testid="badge" data-busy={busy > 0}>
        <b>{word}</b>
        {good ? (
          <span>
            {account.iterations} {account.iterations === 1 ? 'step' : 'steps'} ·{' '}
            <i>{mva(account.largest_mismatch_mva)} MVA · </i>
            {fixed(shown.solve_ms, shown.solve_ms < 10 ? 1 : 0)} ms
          </span>
        ) : (
          <span>why?</span>
        )}
      </Pill>
      <Popover placement="bottom end">
        <Body aria-label="Account of the solution">
          <AccountText account={account} ms={shown.solve_ms} />
        </Body>
      </Popover>
    </DialogTrigger>
  )
}

function AccountText({ account, ms }: { account: Account; ms: number }) {
  const good = account.ending === 'converged'
  return (
    <>
      <h2>
        {good ? 'Converged' : account.ending === 'nothing_to_solve' ? 'Nothing to solve' : 'Did not converge'}
      </h2>
      <p>
        {account.method}: {account.iterations} {account.iterations === 1 ? 'step' : 'steps'}
        {good ? `, ${fixed(ms, 1)} ms with all tables` : ''}. Every bus is to balance within{' '}
        {mva(account.tolerance_mva)} MVA.
      </p>
      {account.explanation && <p className="why">{account.explanation}</p>}
      {account.breaks_at && (
        <p>
          The place: <BusLink id={account.breaks_at} />
        </p>
      )}
      {[...(account.assumed ?? []), ...account.notes].map((n) => (
        <p key={n}>{n}</p>
      ))}
      {account.history.length > 1 && <h3>Largest mismatch after each step</h3>}
      <History history={account.history} limit={account.tolerance_mva} />
      <h3>Buses with the largest mismatch</h3>
      <ul className="figures">
        {account.worst.map((w) => (
          <li key={w.bus}>
            <BusLink id={w.bus} />
            <span>{mva(w.active_mw)} MW</span>
            <span>{mva(w.reactive_mvar)} Mvar</span>
          </li>
        ))}
      </ul>
    </>
  )
}

/** Mismatch by step on a logarithmic scale, with the tolerance drawn in. */
function History({ history, limit }: { history: readonly (number | null)[]; limit: number }) {
  const theme = useTheme()
  const logs = history.map((h) => (h === null || h <= 0 ? null : Math.log10(h)))
  const known = logs.filter((l): l is number => l !== null)
  if (history.length < 2 || !known.length) return null
  const goal = Math.log10(limit)
  const top = Math.max(...known, goal) + 0.5
  const bottom = Math.min(...known, goal) - 0.5
  const x = (i: number) => 62 + (i * 320) / Math.max(history.length - 1, 1)
  const y = (l: number) => 8 + ((top - l) / (top - bottom)) * 74
  const points = logs.flatMap((l, i) => (l === null ? [] : [`${x(i)},${y(l)}`]))
  return (
    <svg
      width={398}
      height={92}
      role="img"
      aria-label={`Mismatch in MVA by step: ${history.map(mva).join(', ')}`}
    >
      <path d={`M62 ${y(goal)}H390`} stroke={theme.breach} strokeDasharray="4 3" />
      <text x={56} y={y(goal) + 4} textAnchor="end" fontSize={11} fill={theme.breach}>
        limit
      </text>
      <polyline points={points.join(' ')} fill="none" stroke={theme.accent} strokeWidth={1.6} />
      {logs.map(
        (l, i) =>
          l !== null && (
            // biome-ignore lint/suspicious/noArrayIndexKey: the step number is what the point stands for
            <circle key={i} cx={x(i)} cy={y(l)} r={2.6} fill={theme.accent} />
          ),
      )}
      <text x={56} y={y(known[0]!) + 4} textAnchor="end" fontSize={11} fill={theme.quiet}>
        {mva(history[0] ?? null)}
      </text>
    </svg>
  )
}
