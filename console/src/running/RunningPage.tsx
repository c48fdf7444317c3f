import { useQuery } from '@tanstack/react-query';
import { appsQuery, containersQuery, portsQuery } from '../api/queries';
import { CopyLine } from '../shared/CopyLine';
import { Notice } from '../shared/Notice';
import { Table } from '../shared/Table';
import { Tabs } from '../shared/Tabs';
import type { Place } from '../state/place';
import { setParams } from '../state/usePlace';
import { AppRow } from './AppRow';
import { Collisions } from './Collisions';
import { ContainerRow } from './ContainerRow';
import { PortRow } from './PortRow';
import { collisionsOf } from './collisions';

type Tab = 'apps' | 'containers' | 'ports';

/** What runs on this machine: apps, containers, and what else listens, with the routes that each has. */
export function RunningPage({ params }: { params: Place['params'] }) {
  const apps = useQuery(appsQuery());
  const containers = useQuery(containersQuery());
  const ports = useQuery(portsQuery());
  const counted = (title: string, data: readonly unknown[] | undefined) =>
    data === undefined ? title : `${title} (${data.length})`;
  const tabs: (readonly [Tab, string])[] = [
    ['apps', counted('Apps', apps.data)],
    ['containers', counted('Containers', containers.data)],
    ['ports', counted('Ports', ports.data)],
  ];
  const tab = tabs.find(([known]) => known === params.tab)?.[0] ?? 'apps';
  return (
    <div className="pt-4">
      <Collisions collisions={collisionsOf(apps.data ?? [], ports.data ?? [])} />
      <Tabs
        label="What runs"
        tabs={tabs}
        current={tab}
        onChoose={(next) => setParams({ tab: next === 'apps' ? undefined : next }, 'step')}
      >
        {tab === 'apps' &&
          (apps.data?.length === 0 ? (
            <Notice title="No app yet">
              An app is a command that the first visit to its name starts. Add one in a project’s
              folder:
              <CopyLine text="bentlane app add" />
            </Notice>
          ) : (
            <Table titles={['App', 'State', 'Port', 'Command', 'Routes', '']} label="Apps">
              {apps.data?.map((app) => (
                <AppRow key={app.name} app={app} isOpen={app.name === params.app} params={params} />
              ))}
            </Table>
          ))}
        {tab === 'containers' &&
          (containers.data?.length === 0 ? (
            <Notice title="No container runs">
              Containers of Docker-compatible engines show up here by themselves. Which engines are
              asked:
              <CopyLine text="bentlane status" />
            </Notice>
          ) : (
            <Table
              titles={['Container', 'State', 'Ports', 'Image', 'Routes', '']}
              label="Containers"
            >
              {containers.data?.map((container) => (
                <ContainerRow key={container.id} container={container} />
              ))}
            </Table>
          ))}
        {tab === 'ports' &&
          (ports.data?.length === 0 ? (
            <Notice title="Nothing listens on this machine">
              What listens on loopback addresses shows up here by itself.
            </Notice>
          ) : (
            <Table titles={['Port', 'Protocol', 'Process', 'Folder', 'Routes', '']} label="Ports">
              {ports.data?.map((port) => (
                <PortRow key={`${port.port} ${port.process?.pid ?? port.user}`} port={port} />
              ))}
            </Table>
          ))}
      </Tabs>
    </div>
  );
}
