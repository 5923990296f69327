import { Button, Checkbox, Group, Stack, Text, Title, VisuallyHidden } from '@mantine/core'
import { useState } from 'react'
import { lookAs } from '../looking.js'
import { Do } from '../parts/Do.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useForm, useList, type useMay } from '../records.js'
import { Wardenships } from './Wardenships.js'

const DUTIES = ['treasurer', 'secretary', 'auditor']

/** The secretary's page: who is a member, with which duties, and who looks after which site. */
export function OfficePage() {
  const list = useList('members', { access: true, orderBy: 'name', limit: 200 }, { live: true })
  const [edited, setEdited] = useState<number | 'new' | null>(null)
  return (
    <>
      <Head title="Office" lead="For the secretary.">
        <Button variant="default" onClick={() => lookAs('visitor')}>
          Look as a visitor
        </Button>
        <Button onClick={() => setEdited(edited === 'new' ? null : 'new')}>Add a member</Button>
      </Head>
      <Stack gap="xl">
        {edited === 'new' && <MemberForm onSaved={() => setEdited(null)} />}
        <section aria-labelledby="members">
          <Title order={2} id="members" mb="sm">
            Members
          </Title>
          <div className="card">
            <Listed state={list} empty="There are no members.">
              {(members) =>
                members.map((member) => (
                  <div key={member.id} className="row" data-testid={`office-${member.id}`}>
                    <Group justify="space-between" gap="xs">
                      <div>
                        <Text fw={600}>
                          {member.name}
                          {(member.duties?.length ?? 0) > 0 && (
                            <Text span c="dimmed" fw={400}>
                              {' '}
                              · {member.duties?.join(', ')}
                            </Text>
                          )}
                        </Text>
                        <Text size="sm" c="dimmed">
                          {[member.email, member.phone].filter(Boolean).join(' · ')}
                        </Text>
                      </div>
                      <Group gap="xs">
                        <Button size="compact-sm" variant="subtle" onClick={() => lookAs(member.id)}>
                          Look as
                          <VisuallyHidden>&nbsp;{member.name}</VisuallyHidden>
                        </Button>
                        <Do
                          table="members"
                          record={member}
                          action="update"
                          onAct={() => setEdited(edited === member.id ? null : member.id)}
                        >
                          Edit
                        </Do>
                        <Do
                          table="members"
                          record={member}
                          action="delete"
                          confirm={{
                            title: `Remove ${member.name}?`,
                            text: 'They are no member any more from then on.',
                            yes: 'Remove',
                          }}
                        >
                          Remove
                        </Do>
                      </Group>
                    </Group>
                    {edited === member.id && <MemberForm member={member} onSaved={() => setEdited(null)} />}
                  </div>
                ))
              }
            </Listed>
          </div>
        </section>
        <Wardenships members={list.records} />
      </Stack>
    </>
  )
}

type Member = NonNullable<Parameters<typeof useMay<'members'>>[1]>

function MemberForm({ member, onSaved }: { readonly member?: Member; readonly onSaved: () => void }) {
  const form = useForm('members', { ...(member ? { record: member } : { values: { duties: [] } }), onSaved })
  const duties = form.values.duties ?? []
  return (
    <form onSubmit={(event) => void form.save(event)} aria-label={member ? `Change ${member.name}` : 'A new member'}>
      <Stack maw="32rem" mt="sm">
        <FormNotes form={form} compared={['name', 'email']} />
        <TextField form={form} name="name" label="Name" required />
        <TextField form={form} name="email" label="E-mail" type="email" required />
        <TextField form={form} name="phone" label="Telephone" type="tel" />
        <Checkbox.Group
          label="Duties"
          value={[...duties]}
          onChange={(chosen) => form.set({ duties: chosen })}
          error={form.errors['duties']}
          description={form.mayChange('duties') ? undefined : 'Nobody hands out duties to themselves.'}
        >
          <Group mt={4}>
            {DUTIES.map((duty) => (
              <Checkbox key={duty} value={duty} label={duty} disabled={!form.mayChange('duties')} />
            ))}
          </Group>
        </Checkbox.Group>
        <div>
          <Button type="submit" size="compact-md" loading={form.isSaving}>
            Save
          </Button>
        </div>
      </Stack>
    </form>
  )
}
