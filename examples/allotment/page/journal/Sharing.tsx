import { Button, Group, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core'
import { filter } from 'pachter/client'
import { MemberField } from '../parts/choices.js'
import { Do } from '../parts/Do.js'
import { ChoiceField, DayField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Listed } from '../parts/States.js'
import { useChanges, useForm, useList, useSession } from '../records.js'
import { date, dayOf, endOfDay } from '../words.js'

const LEVELS = [
  { value: 'view', label: 'may read it' },
  { value: 'edit', label: 'may edit it' },
]

/** With whom an entry is shared, whether to read or to edit, and until when; for its author. */
export function Sharing({ entryId }: { readonly entryId: number }) {
  const { update } = useChanges('entryShares')
  const list = useList(
    'entryShares',
    { access: true, filter: filter`entryId eq ${entryId}`, with: { member: { fields: ['name'] } } },
    { live: true },
  )
  return (
    <section aria-labelledby="sharing" className="card">
      <Stack gap="sm" p="md">
        <Title order={2} id="sharing">
          Shared with
        </Title>
        <Listed state={list} empty="Nobody but those who can read it anyway.">
          {(shares) =>
            shares.map((share) => (
              <Group key={share.memberId} gap="sm" data-testid={`share-${share.memberId}`}>
                <Text fw={600} miw="10rem">
                  {share.member?.name}
                </Text>
                <NativeSelect
                  size="xs"
                  aria-label={`What ${share.member?.name} may do`}
                  data={LEVELS}
                  value={share.level}
                  disabled={!share.$access.changeable.includes('level')}
                  onChange={({ currentTarget }) =>
                    void update(share, { level: currentTarget.value as 'view' | 'edit' })
                  }
                />
                <TextInput
                  size="xs"
                  type="date"
                  aria-label={`Until when, for ${share.member?.name}`}
                  value={dayOf(share.until)}
                  disabled={!share.$access.changeable.includes('until')}
                  onChange={({ currentTarget }) => void update(share, { until: endOfDay(currentTarget.value) })}
                />
                <Text size="sm" c="dimmed">
                  {share.until ? `until ${date(share.until)}` : 'for good'}
                </Text>
                <Do table="entryShares" record={share} action="delete" confirm={false} ml="auto">
                  Withdraw
                </Do>
              </Group>
            ))
          }
        </Listed>
        <ShareForm entryId={entryId} taken={list.records.map(({ memberId }) => memberId)} />
      </Stack>
    </section>
  )
}

function ShareForm({ entryId, taken }: { readonly entryId: number; readonly taken: readonly number[] }) {
  const { caller } = useSession()
  const members = useList('members', { fields: ['name'], orderBy: 'name', limit: 200 })
  const form = useForm('entryShares', { name: `of ${entryId}`, values: { entryId, level: 'view' } })
  const others = members.records.filter(({ id }) => id !== caller['id'] && !taken.includes(id))
  return (
    <form onSubmit={(event) => void form.save(event)}>
      <FormNotes form={form} />
      <Group align="flex-end" gap="sm">
        <MemberField form={form} name="memberId" label="Share it with" required among={others} />
        <ChoiceField form={form} name="level" label="who" choices={LEVELS} />
        <DayField form={form} name="until" label="until" />
        <Button type="submit" loading={form.isSaving} disabled={!form.mayChange('memberId')}>
          Share
        </Button>
      </Group>
    </form>
  )
}
