export const greeting = 'Where do you want to sleep tonight?';
