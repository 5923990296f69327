import { Group, Stack, Text, Title } from '@mantine/core'
import { Link } from 'react-router'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useList, useSession } from '../records.js'
import { number } from '../words.js'

/** All plots, by site: everybody sees where they are and what grows; who holds them, is for those it concerns. */
export function PlotsPage() {
  const { caller } = useSession()
  const sites = useList('sites', { orderBy: 'name' })
  const plots = useList(
    'plots',
    { orderBy: 'number', limit: 200, with: { holder: { fields: ['name'] } } },
    { live: true },
  )
  return (
    <>
      <Head title="Plots" lead="Three sites, thirty plots. A plot without a crop may well be free: ask its warden." />
      <Listed state={sites} empty="There are no sites.">
        {(all) => (
          <Stack gap="xl">
            {all.map((site) => (
              <section key={site.id} aria-labelledby={`site-${site.id}`}>
                <Title order={2} id={`site-${site.id}`}>
                  {site.name}
                </Title>
                <Text c="dimmed" size="sm" mb="xs">
                  {site.address}
                </Text>
                <div className="card">
                  <Listed
                    state={plots}
                    shown={plots.records.filter(({ siteId }) => siteId === site.id)}
                    empty="There are no plots."
                  >
                    {(shown) =>
                      shown.map((plot) => (
                        <Link key={plot.id} to={`/plots/${plot.id}`} className="row" data-testid={`plot-${plot.id}`}>
                          <Group wrap="nowrap" gap="md">
                            <Text fw={600} w="3.5rem" style={{ flexShrink: 0 }}>
                              {plot.number}
                            </Text>
                            <Text size="sm" style={{ flex: 1 }}>
                              {plot.crop ?? '–'}
                              {plot.holder && (
                                <Text span c="dimmed">
                                  {' '}
                                  · {plot.holderId === caller['id'] ? 'yours' : plot.holder.name}
                                </Text>
                              )}
                            </Text>
                            <Text size="sm" c="dimmed">
                              {number(plot.areaM2)} m²
                            </Text>
                          </Group>
                        </Link>
                      ))
                    }
                  </Listed>
                </div>
              </section>
            ))}
          </Stack>
        )}
      </Listed>
    </>
  )
}
