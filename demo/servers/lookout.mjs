// The camera on the lookout, which is broken on purpose: its settings name a camera that is not there.
const cameras = new Map([['north', '/dev/null']]);

function open(name) {
  const camera = cameras.get(name);
  if (camera === undefined) throw new Error(`no camera is called "${name}": see settings.json`);
  return camera;
}

console.log('looking for the camera');
open('south');
