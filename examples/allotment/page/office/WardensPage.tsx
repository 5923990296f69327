import { Button, Group, Stack, Text, Title } from '@mantine/core'
import { useState } from 'react'
import { filter } from 'pachter/client'
import { Link } from 'react-router'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { PlotForm } from '../plots/PlotPage.js'
import { useList, useSession } from '../records.js'
import { date, JOB_STATES, number } from '../words.js'

/** For the wardens of a site: its plots, and what there is to do on it. */
export function WardensPage() {
  const { caller } = useSession()
  const me = Number(caller['id'] ?? 0)
  const mine = useList(
    'siteWardens',
    { filter: filter`memberId eq ${me}`, with: { site: { fields: ['name', 'address'] } } },
    { live: true },
  )
  return (
    <Listed state={mine} empty="You look after no site any more.">
      {(wardenships) => (
        <>
          <Head title="Wardens" lead="The sites you look after." />
          <Stack gap="xl">
            {wardenships.map(({ siteId, site }) => (
              <Site key={siteId} id={siteId} name={site?.name ?? ''} />
            ))}
          </Stack>
        </>
      )}
    </Listed>
  )
}

function Site({ id, name }: { readonly id: number; readonly name: string }) {
  const plots = useList(
    'plots',
    {
      access: true,
      filter: filter`siteId eq ${id}`,
      orderBy: 'number',
      limit: 200,
      with: { holder: { fields: ['name'] } },
    },
    { live: true },
  )
  const jobs = useList(
    'jobs',
    { filter: filter`siteId eq ${id} and status ne 'done'`, orderBy: 'dueAt' },
    { live: true },
  )
  const [edited, setEdited] = useState<number | null>(null)
  return (
    <section aria-labelledby={`site-${id}`}>
      <Group justify="space-between" mb="sm">
        <Title order={2} id={`site-${id}`}>
          {name}
        </Title>
        <Button component={Link} to="/jobs/new" size="compact-sm" variant="default">
          Report a job
        </Button>
      </Group>
      <Title order={3} mb="xs">
        To do
      </Title>
      <div className="card">
        <Listed state={jobs} empty="There is nothing to do.">
          {(all) =>
            all.map((job) => (
              <Link key={job.id} to={`/jobs/${job.id}`} className="row">
                <Text fw={600}>{job.title}</Text>
                <Text size="sm" c="dimmed">
                  {job.status && JOB_STATES[job.status]}
                  {job.dueAt && ` · due ${date(job.dueAt)}`}
                </Text>
              </Link>
            ))
          }
        </Listed>
      </div>
      <Title order={3} mt="lg" mb="xs">
        Plots
      </Title>
      <div className="card">
        <Listed state={plots} empty="There are no plots.">
          {(all) =>
            all.map((plot) => (
              <div key={plot.id} className="row">
                <Group justify="space-between" gap="xs">
                  <div>
                    <Text fw={600}>
                      {plot.number}{' '}
                      <Text span c="dimmed" fw={400}>
                        · {plot.holder?.name ?? 'nobody'} · {number(plot.areaM2)} m²
                      </Text>
                    </Text>
                    {plot.notes && (
                      <Text size="sm" c="dimmed">
                        {plot.notes}
                      </Text>
                    )}
                  </div>
                  <Button
                    size="compact-sm"
                    variant="default"
                    aria-expanded={edited === plot.id}
                    onClick={() => setEdited(edited === plot.id ? null : plot.id)}
                  >
                    Change
                  </Button>
                </Group>
                {edited === plot.id && <PlotForm plot={plot} />}
              </div>
            ))
          }
        </Listed>
      </div>
    </section>
  )
}
