import { Badge, Group, Stack, Text } from '@mantine/core'
import { Do } from '../parts/Do.js'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useList, useSession } from '../records.js'
import { date, money } from '../words.js'
import { RentForm } from './RentForm.js'

/** Rents: one's own, or all of them for those who look after the money. */
export function RentsPage() {
  const { caller, roles } = useSession()
  const list = useList(
    'rents',
    {
      access: true,
      orderBy: ['year descending', 'id'],
      limit: 200,
      with: { plot: { fields: ['number'] }, member: { fields: ['name'] } },
    },
    { live: true },
  )
  return (
    <>
      <Head
        title="Rents"
        lead={
          roles.length > 0 ? 'What every plot costs, and what was paid.' : 'What your plots cost, and what you paid.'
        }
      />
      <Stack gap="xl">
        <section className="card" aria-label="Rents">
          <Listed state={list} empty="You owe nothing, and never did.">
            {(rents) =>
              rents.map((rent) => (
                <div key={rent.id} className="row" data-testid={`rent-${rent.id}`}>
                  <Group justify="space-between">
                    <div>
                      <Text fw={600}>
                        Plot {rent.plot?.number}, {rent.year}
                      </Text>
                      <Text size="sm" c="dimmed">
                        {rent.memberId === caller['id'] ? 'You' : rent.member?.name} · {money(rent.amountCents)}
                      </Text>
                    </div>
                    <Group gap="xs">
                      {rent.paidAt ? (
                        <Badge variant="light" tt="none" color="leaf">
                          Paid {date(rent.paidAt)}
                        </Badge>
                      ) : (
                        <Badge variant="light" tt="none" color="beet">
                          Not paid
                        </Badge>
                      )}
                      <Do table="rents" record={rent} action="settle" refused="hide">
                        Was paid
                      </Do>
                      {roles.length > 0 && (
                        <Do
                          table="rents"
                          record={rent}
                          action="delete"
                          confirm={{
                            title: 'Delete this rent?',
                            text: 'Nobody will know any more that it was asked for.',
                          }}
                        >
                          Delete
                        </Do>
                      )}
                    </Group>
                  </Group>
                </div>
              ))
            }
          </Listed>
        </section>
        {roles.includes('treasurer') && <RentForm />}
      </Stack>
    </>
  )
}
