import type { Route } from '../api/types';
import { opens } from '../format';
import { IconButton } from '../shared/Button';
import { Icon } from '../shared/Icon';
import { Menu, MenuItem, MenuLink, MenuSeparator } from '../shared/Menu';
import { useToasts } from '../shared/useToasts';
import { routePath } from '../state/place';
import { goTo } from '../state/usePlace';
import { useRouteActions } from './useRouteActions';

/** All that one can do with a route. */
export function RouteMenu({ route }: { route: Route }) {
  const actions = useRouteActions();
  const { show } = useToasts();
  const copyUrl = async () => {
    try {
      await navigator.clipboard.writeText(route.url);
      show({ text: `Copied ${route.url}` });
    } catch {
      show({ text: `The browser does not let this page copy: ${route.url}`, failed: true });
    }
  };
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
      <MenuItem onSelect={() => void copyUrl()} shortcut="u">
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
