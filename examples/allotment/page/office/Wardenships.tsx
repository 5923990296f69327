import { Group, Stack, Text, Title } from '@mantine/core'
import { PickMember } from '../parts/choices.js'
import { Do } from '../parts/Do.js'
import { Listed } from '../parts/States.js'
import { useChanges, useList } from '../records.js'

interface Props {
  readonly members: readonly { readonly id: number; readonly name?: string }[]
}

/** Who looks after which site. */
export function Wardenships({ members }: Props) {
  const sites = useList('sites', { fields: ['name'], orderBy: 'name' })
  const wardens = useList('siteWardens', { access: true, with: { member: { fields: ['name'] } } }, { live: true })
  const { create } = useChanges('siteWardens')
  return (
    <section aria-labelledby="wardens">
      <Title order={2} id="wardens" mb="sm">
        Wardens
      </Title>
      <Listed state={sites} empty="There are no sites.">
        {(all) => (
          <Stack gap="md">
            {all.map((site) => {
              const own = wardens.records.filter(({ siteId }) => siteId === site.id)
              const others = members.filter(({ id }) => !own.some(({ memberId }) => memberId === id))
              return (
                <div key={site.id} className="card">
                  <Stack p="md" gap="xs">
                    <Title order={3}>{site.name}</Title>
                    {own.length === 0 && <Text c="dimmed">Nobody looks after it.</Text>}
                    {own.map((warden) => (
                      <Group key={warden.memberId} justify="space-between">
                        {warden.member?.name}
                        <Do
                          table="siteWardens"
                          record={warden}
                          action="delete"
                          confirm={{
                            title: `Is ${warden.member?.name} warden no more?`,
                            text: 'They stop seeing the jobs and the notes of this site.',
                            yes: 'No more',
                            no: 'Still',
                          }}
                        >
                          Warden no more
                        </Do>
                      </Group>
                    ))}
                    <PickMember
                      label={`A new warden of ${site.name}`}
                      among={others}
                      onPick={(memberId) => create({ siteId: site.id, memberId })}
                    />
                  </Stack>
                </div>
              )
            })}
          </Stack>
        )}
      </Listed>
    </section>
  )
}
