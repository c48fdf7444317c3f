import type { Route } from '../api/types';
import { opens } from '../format';
import { IconButton } from '../shared/Button';
import { Icon } from '../shared/Icon';
import { Menu, MenuItem, MenuLink, MenuSeparator } from '../shared/Menu';
import { routePath } from '../state/place';
import { goTo } from '../state/usePlace';
import type { useRouteActions } from './useRouteActions';

interface RouteMenuProps {
  route: Route;
  actions: ReturnType<typeof useRouteActions>;
}

/** All that one can do with a route. */
export function RouteMenu({ route, actions }: RouteMenuProps) {
  const isOfLabel = route.of_container != null;
  return (
    <Menu
      button={
        <IconButton label={`More for ${route.address}`}>
          <Icon name="more" />
        </IconButton>
      }
    >
      <MenuLink href={routePath(route.address)}>Show all of it</MenuLink>
      {opens(route) && (
        <MenuLink href={route.url} away>
          Open the page
        </MenuLink>
      )}
      <MenuItem onSelect={() => actions.copyUrl(route)} shortcut="u">
        Copy its URL
      </MenuItem>
      <MenuItem onSelect={() => actions.check([route])} shortcut="c">
        Check now
      </MenuItem>
      <MenuItem onSelect={() => actions.check([route], true)}>Check deeply</MenuItem>
      <MenuSeparator />
      <MenuItem
        onSelect={() => goTo(routePath(route.address, { tab: 'settings' }))}
        disabled={isOfLabel}
        shortcut="e"
      >
        Edit
      </MenuItem>
      <MenuItem onSelect={() => actions.pause(route)} disabled={isOfLabel} shortcut="p">
        {route.settings.paused === true ? 'Resume' : 'Pause'}
      </MenuItem>
      <MenuItem onSelect={() => actions.remove(route)} disabled={isOfLabel}>
        Remove
      </MenuItem>
    </Menu>
  );
}
