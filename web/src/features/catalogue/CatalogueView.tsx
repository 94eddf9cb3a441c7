/** The catalogue on the shelf: search, use for the selection, own types, where used, import and export. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef, useState } from 'react'
import styled from 'styled-components'
import type { EquipmentType } from '../../api/client'
import { typesQuery, vocabularyQuery } from '../../api/queries'
import { figures } from '../../card/TypeChooser'
import { Button, Plain, TextInput } from '../../design/controls'
import { freeName } from '../../session/create'
import { changeOrTell, importTypes, updateMany } from '../../session/edits'
import { select, selection, selectMany, useBench, useParts } from '../../session/store'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; overflow: hidden;
  > button[aria-pressed] { border: none; background: transparent; padding: 2px 8px; border-radius: 4px; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
  > button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  input { width: 230px; flex: none; margin-left: auto; height: 26px; }
  a { color: ${(p) => p.theme.accent}; padding: 0 6px; }
`
const Scroll = styled.div`overflow-y: auto; min-height: 0; height: 100%; &:focus-visible { outline-offset: -3px; }`
const Row = styled.div`
  display: grid; grid-template-columns: minmax(160px, 260px) minmax(0, 1fr) auto; gap: 12px; align-items: center; height: 30px; padding: 0 8px 0 16px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  &:hover { background: ${(p) => p.theme.accentWash}; }
  .name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; } .figures { color: ${(p) => p.theme.quiet}; font-size: 12px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .own { color: ${(p) => p.theme.accent}; font-size: 12px; margin-left: 6px; }
  .acts { display: flex; } .acts button { height: 24px; padding: 0 7px; color: ${(p) => p.theme.accent}; font-size: 12px; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

/** Elements that can have a type of a family. */
const KIND: Readonly<Record<string, string>> = {
  line: 'line',
  transformer: 'transformer',
  switch: 'switch',
  conductor: 'line_geometry',
}
const ROW = 30

export function CatalogueView() {
  const [family, setFamily] = useState('line')
  const [query, setQuery] = useState('')
  const { project, revision, items } = useParts('project', 'revision', 'items')
  const families = useQuery(vocabularyQuery).data?.families ?? []
  const file = useRef<HTMLInputElement>(null)
  const { data } = useQuery({
    ...typesQuery(project?.id ?? '', revision, family, query.trim()),
    enabled: !!project,
    placeholderData: keepPreviousData,
  })
  const fitting = selection().filter((id) => items.get(id)?.kind === KIND[family])
  const href = (form: string) =>
    `/api/projects/${project?.id}/types/export?family=${family}&form=${form}&query=${encodeURIComponent(query)}`
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Catalogue">
        {families.map((f) => (
          <button
            type="button"
            key={f.name}
            aria-pressed={f.name === family}
            onClick={() => setFamily(f.name)}
          >
            {f.label} {f.count}
          </button>
        ))}
        <TextInput
          aria-label="Search the catalogue"
          placeholder="Al 95..185 11 kV"
          value={query}
          onChange={(e) => setQuery(e.currentTarget.value)}
        />
        <Plain onPress={() => file.current?.click()}>Import …</Plain>
        <a href={href('csv')} download>
          CSV
        </a>
        <a href={href('xlsx')} download>
          XLSX
        </a>
        <input
          ref={file}
          type="file"
          hidden
          accept=".csv,.xlsx"
          aria-label="Types to import"
          onChange={(e) => {
            const chosen = e.currentTarget.files?.[0]
            if (chosen) void importTypes(chosen)
            e.currentTarget.value = ''
          }}
        />
      </Bar>
      {data && !data.types.length ? (
        <None>No type matches. Try fewer words, or a range such as 50..150.</None>
      ) : (
        <Types
          types={data?.types ?? []}
          fitting={fitting}
          shown={families.find((f) => f.name === family)?.shown ?? []}
        />
      )}
    </Frame>
  )
}

function Types(props: {
  types: readonly EquipmentType[]
  fitting: readonly string[]
  shown: readonly string[]
}) {
  const scroll = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: props.types.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
  })
  return (
    <Scroll ref={scroll} tabIndex={0} role="region" aria-label="Types">
      <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
        {rows.getVirtualItems().map((v) => {
          const t = props.types[v.index]!
          return (
            <Row
              key={t.name}
              style={{ position: 'absolute', top: v.start, left: 0, right: 0 }}
              title={t.basis}
            >
              <span className="name">
                {t.name}
                {t.own && <span className="own">own</span>}
              </span>
              <span className="figures">{figures(t, props.shown)}</span>
              <Acts type={t} fitting={props.fitting} />
            </Row>
          )
        })}
      </div>
    </Scroll>
  )
}

function Acts({ type, fitting }: { type: EquipmentType; fitting: readonly string[] }) {
  const use = () =>
    void updateMany(
      fitting.map((id) => ({ id, values: { type: type.name } })),
      `Take ${type.name} for ${fitting.length} elements`,
    )
  const own = async () => {
    const id = freeName(`${type.name}, own`)
    const item = {
      kind: 'own_type',
      id,
      name: id,
      family: type.family,
      description: type.description,
      series: type.series,
      size: type.size,
      values: type.values,
    }
    if (await changeOrTell(`Own type from ${type.name}`, [{ op: 'add', item }])) select(id)
  }
  const where = () => {
    const { items } = useBench.getState()
    selectMany(
      [...items.values()].filter((i) => i.type === type.name || i.spectrum === type.name).map((i) => i.id),
    )
  }
  return (
    <span className="acts">
      {(type.used ?? 0) > 0 && <Plain onPress={where}>used {type.used}×</Plain>}
      {type.own ? (
        <Plain onPress={() => select(type.name)}>edit</Plain>
      ) : (
        <Plain onPress={() => void own()}>own copy</Plain>
      )}
      {fitting.length > 0 && (
        <Button onPress={use}>use for {fitting.length === 1 ? 'selection' : fitting.length}</Button>
      )}
    </span>
  )
}
