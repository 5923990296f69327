import { NativeSelect } from '@mantine/core'
import { useState } from 'react'
import { useList } from '../records.js'
import { ChoiceField, type FieldProps } from './fields.js'

interface Named {
  readonly id: number
  readonly name?: string
}

const asChoices = (records: readonly Named[]) =>
  records.map(({ id, name }) => ({ value: String(id), label: name ?? '' }))

type Props = FieldProps & { readonly empty?: string }

/** One of the members; of those that are given, where not all will do. */
export function MemberField({
  among,
  empty = 'Choose a member',
  ...props
}: Props & { readonly among?: readonly Named[] }) {
  const all = useList('members', { fields: ['name'], orderBy: 'name', limit: 200 }, { enabled: !among })
  return <ChoiceField {...props} empty={empty} choices={asChoices(among ?? all.records)} />
}

export function SiteField({ empty = 'Choose a site', ...props }: Props) {
  const sites = useList('sites', { fields: ['name'], orderBy: 'name' })
  return <ChoiceField {...props} empty={empty} choices={asChoices(sites.records)} />
}

export function PlotField({ empty = 'Choose a plot', ...props }: Props) {
  const plots = useList('plots', { fields: ['number'], orderBy: 'number', limit: 200 })
  const named = plots.records.map(({ id, number: name }) => ({ id, ...(name !== undefined && { name }) }))
  return <ChoiceField {...props} empty={empty} choices={asChoices(named)} />
}

interface PickProps {
  readonly label: string
  readonly among: readonly Named[]
  readonly onPick: (id: number) => Promise<unknown>
}

/** Picks a member, and that is all there is to do: it is sent at once. */
export function PickMember({ label, among, onPick }: PickProps) {
  const [problem, setProblem] = useState('')
  return (
    <NativeSelect
      maw="20rem"
      label={label}
      value=""
      error={problem || undefined}
      data={[{ value: '', label: 'Choose a member' }, ...asChoices(among)]}
      onChange={({ currentTarget: { value } }) => {
        setProblem('')
        onPick(Number(value)).catch((error: Error) => setProblem(error.message))
      }}
    />
  )
}
